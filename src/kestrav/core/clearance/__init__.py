"""Distances between what moves and what stays."""
