"""Project file and import."""
