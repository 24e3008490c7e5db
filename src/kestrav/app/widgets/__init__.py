"""What all rooms of the window use: its look, fields and pictures."""
