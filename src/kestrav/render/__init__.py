"""Pictures and film through VTK; knows no Qt."""
