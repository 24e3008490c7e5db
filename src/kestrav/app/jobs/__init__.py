"""Long work in the background, and the bar that tells of it."""
