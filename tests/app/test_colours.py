"""The window's colours: enough contrast in both variants, and the dark one where it is wanted."""

import os
import subprocess
import sys

import pytest

from kestrav.app.widgets.window_colours import DARK, LIGHT


def luminance(colour):
    """Relative luminance of #rrggbb: WCAG 2.1 (W3C Recommendation, 2018), definition of relative luminance."""
    shares = [int(colour[i : i + 2], 16) / 255 for i in (1, 3, 5)]
    r, g, b = (v / 12.92 if v <= 0.03928 else ((v + 0.055) / 1.055) ** 2.4 for v in shares)
    return 0.2126 * r + 0.7152 * g + 0.0722 * b


def contrast(one, other):
    """Contrast ratio: WCAG 2.1, definition of contrast ratio."""
    high, low = sorted((luminance(one), luminance(other)), reverse=True)
    return (high + 0.05) / (low + 0.05)


def test_black_on_white_has_the_highest_contrast():
    assert contrast("#000000", "#ffffff") == pytest.approx(21.0)


@pytest.mark.parametrize("colours", [LIGHT, DARK], ids=["light", "dark"])
@pytest.mark.parametrize(
    ("text", "ground"),
    [
        ("INK", "PAPER"),
        ("INK", "CARD"),
        ("INK", "FIELD"),
        ("INK", "HEADING"),
        ("INK", "CHOSEN"),
        ("INK", "WORKED"),
        ("INK", "FAULT"),
        ("MUTED", "PAPER"),
        ("MUTED", "CARD"),
        ("MUTED", "CHOSEN"),
        ("PETROL", "CARD"),
        ("ON_PETROL", "PETROL"),
        ("ON_STRAW", "STRAW"),
        ("BREACH_TEXT", "CARD"),
        ("WARNING_TEXT", "CARD"),
        ("NOTE_TEXT", "CARD"),
        ("CARD", "POSED"),
        ("CARD", "CARRIED"),
        ("CARD", "SPUN"),
        ("CARD", "SHOT"),
    ],
)
def test_text_can_be_read(colours, text, ground):
    # 4.5:1, WCAG 2.1, success criterion 1.4.3 (level AA)
    assert contrast(colours[text], colours[ground]) >= 4.5


def test_both_variants_have_the_same_colours():
    assert LIGHT.keys() == DARK.keys()


SHOWN = """
import sys, tempfile
from PySide6.QtCore import QCoreApplication, QSettings
QSettings.setPath(QSettings.Format.NativeFormat, QSettings.Scope.UserScope, sys.argv[1])
QCoreApplication.setOrganizationName("Kestrav")
QCoreApplication.setApplicationName("Kestrav")
QSettings().setValue("window/colours", sys.argv[2])
from kestrav.app.shell.start import make_application
application = make_application()
from kestrav.app.shell.window import Window
window = Window()
window.show()
application.processEvents()
image = window.grab().toImage()
print(image.pixelColor(60, image.height() - 60).name())
import os
os._exit(0)
"""


@pytest.mark.parametrize(("chosen", "colours"), [("light", LIGHT), ("dark", DARK), ("system", LIGHT)])
def test_the_window_takes_the_chosen_colours(chosen, colours, tmp_path):
    # in a process of its own: the colours are those of its start
    done = subprocess.run(
        [sys.executable, "-c", SHOWN, str(tmp_path), chosen],
        capture_output=True,
        text=True,
        timeout=120,
        env={**os.environ, "PYTHONPATH": os.pathsep.join(sys.path)},
    )
    assert done.stdout.strip() == colours["PAPER"], done.stderr[-800:]
