"""The 3D view, the lens in it, and the tools that are used there."""
