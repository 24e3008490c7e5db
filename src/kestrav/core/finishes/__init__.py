"""Finishes: the shelf of those that we know, their fine structure, and which part has which."""
