"""Shots in order as a film: its strips, its playing and what is asked before rendering."""
