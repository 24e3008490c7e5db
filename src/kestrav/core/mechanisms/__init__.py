"""Mechanisms as such, in closed form: rods, gears, balls, and what joins parts."""
