"""Finished frames by path tracing, in a process of its own."""
