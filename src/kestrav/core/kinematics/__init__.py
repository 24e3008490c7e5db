"""From a document and times to poses, and bounds of how far these go."""
