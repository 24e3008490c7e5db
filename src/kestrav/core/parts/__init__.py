"""Parts as they stand: their solids, places and order in the tree, and edits of these."""
