"""Paths: shapes made into curves, what can be said of them, and edits of their shape alone."""
