"""The tree at the left: all that a project holds, in the order of the work."""
