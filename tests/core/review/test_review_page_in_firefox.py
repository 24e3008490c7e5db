"""The review page in Firefox: the same motion, clicks, scrubbing, a comment and the gap's pixels as in Chromium."""

import io
import os
import shutil

import numpy as np
import pytest
from browser import until
from firefox import Firefox
from PIL import Image
from poses_on_page import PLACE, TURN, off

from kestrav.core.findings.check import check
from kestrav.core.kinematics.runs import span
from kestrav.core.review.review_page import review_page

RIGHT, HOME = "\ue014", "\ue011"  # WebDriver's names of these keys


@pytest.fixture
def firefox(tmp_path):
    """Opens a review page; whatever goes wrong in it or is asked of anybody fails the test."""
    if shutil.which("firefox-esr") is None or "DISPLAY" not in os.environ:
        pytest.skip("Firefox, or a display for it, is not here; make dev and scripts/with-display see to them")
    browser = Firefox()

    def show(html):
        file = tmp_path / "page.html"
        file.write_bytes(html)
        browser.open(file.as_uri())
        until(browser, "document.documentElement.dataset.ready === 'yes'", 120.0)
        return browser

    yield show
    faults = browser.faults
    browser.close()
    assert not faults


def test_poses_are_those_of_the_project(turning, firefox, random):
    project, meshes = turning
    page = firefox(review_page(project, meshes).html)
    far, turned = off(project, page, np.sort(random.uniform(0, span(project), 200)))
    assert far <= PLACE and turned <= TURN


def test_it_plays_is_scrubbed_shows_the_gap_and_takes_a_comment(passing, firefox):
    result = check(passing.project, passing.meshes)
    page = firefox(review_page(passing.project, passing.meshes, result=result).html)
    page.click("#findings .item.breach")
    finding = next(f for f in result.findings if f.severity == "breach")
    assert page.evaluate("review.time") == pytest.approx(finding.time)
    page.wait_for_timeout(400)
    picture = np.asarray(Image.open(io.BytesIO(page.screenshot())).convert("RGB"), int)
    left, top = page.evaluate(
        "(() => { const b = document.querySelector('#stage').getBoundingClientRect(); return [b.x, b.y] })()"
    )
    rows, columns = np.nonzero(np.abs(picture - (214, 69, 43)).max(axis=2) < 40)
    red = np.column_stack([columns - left, rows - top])
    for end in page.evaluate("points => points.map(p => review.screen(p))", [list(p) for p in finding.gap]):
        assert np.linalg.norm(red - np.array(end), axis=1).min() < 6
    page.click("#chart", 0.6, 0.1)
    half = page.evaluate("review.time")
    assert 0.5 < half < 1.5
    page.type(RIGHT)
    assert page.evaluate("review.time") == pytest.approx(half + 0.05)
    page.type(HOME, " ")
    until(page, "review.time > 0.2")
    page.type(" ")
    assert not page.evaluate("review.playing")
    page.click("#tab-comments")
    page.click("#comment-name")
    page.type(*"R. Viewer")
    page.click("#comment-text")
    page.type(*"Too near")
    page.click("#comment-form button")
    assert "R. Viewer" in page.evaluate("document.querySelector('#comment-list').innerText")
