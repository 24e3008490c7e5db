"""The demo that everything is measured on."""

from pathlib import Path

FOLDER = Path(__file__).parent.parent / "demo"
PROJECT = FOLDER / "fan-cassette.kestrav"
STEP = FOLDER / "cabinet.step"
