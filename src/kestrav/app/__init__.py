"""The window: it shows and edits, it computes nothing."""
