"""Faults found in a project, one rule a file."""
