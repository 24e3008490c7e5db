"""Step sheets: what each step shows, its drawing in lines, the pages, and how these are written."""
