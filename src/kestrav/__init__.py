"""Kestrav: exact motion, clearance and pictures for product visualization engineers."""

__version__ = "0.1.0"
