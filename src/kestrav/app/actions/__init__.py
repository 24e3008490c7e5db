"""What the menus offer, by what it is about."""
