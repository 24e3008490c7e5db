"""Curves, arc length, frames of reference and meshes, as functions on arrays."""
