"""The rules: each module has one function ``find``."""
