"""Edits that know the motion: runs, wheels, mechanisms and paths made and changed with all that moves along."""
