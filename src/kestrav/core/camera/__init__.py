"""Lenses, views and orbits."""
