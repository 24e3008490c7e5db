"""The card: the settings of what is selected, one module for each kind of thing."""
