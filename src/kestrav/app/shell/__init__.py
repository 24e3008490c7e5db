"""The window itself: its regions, the session it shows, its look and its start."""
