"""What is asked in windows of their own, and tables beside the stage."""
