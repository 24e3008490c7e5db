"""The strip chart: bars of runs and shots, and lanes of curves over time or distance."""
