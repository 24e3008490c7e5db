"""Waiting for something in a page."""

import time


def until(page, true, seconds=20.0):
    """Wait until something is so in a page. Nothing may be evaluated in it but by the driver itself."""
    end = time.monotonic() + seconds
    while not page.evaluate(true):
        assert time.monotonic() < end, f"not so within {seconds:g} s: {true}"
        page.wait_for_timeout(50)
