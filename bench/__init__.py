"""Side-by-side measurements against the bare libraries: ``make bench``."""
