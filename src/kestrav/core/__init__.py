"""Computation without interface code: imports neither Qt nor VTK."""
