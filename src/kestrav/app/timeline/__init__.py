"""The strip chart: bars of runs and shots, and lanes of curves over time or distance."""

from kestrav.app.timeline.charts_library import load_charts_library

load_charts_library()
