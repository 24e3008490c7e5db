"""Light: what shows as white, environments by formula, studio set-ups."""
