"""Ways out of an assembly."""
