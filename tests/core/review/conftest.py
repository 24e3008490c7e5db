"""A browser that shows review pages."""

import shutil

import pytest
from browser import until

from bench.review import ARGUMENTS


@pytest.fixture(scope="session")
def chromium():
    """A running Chromium."""
    found = shutil.which("chromium")
    if found is None:
        pytest.skip("Chromium is not here; make dev installs it")
    from playwright.sync_api import sync_playwright

    with sync_playwright() as driver:
        browser = driver.chromium.launch(executable_path=found, args=ARGUMENTS)
        yield browser
        browser.close()


@pytest.fixture
def shown(chromium, tmp_path):
    """Opens a review page in a window of a size; whatever goes wrong in it or is asked of anybody fails the test."""
    contexts, faults = [], []

    def show(html, size=(1280, 800), touch=False):
        file = tmp_path / f"page-{len(contexts)}.html"
        file.write_bytes(html)
        context = chromium.new_context(
            viewport={"width": size[0], "height": size[1]}, accept_downloads=True, has_touch=touch
        )
        contexts.append(context)
        page = context.new_page()
        page.on("pageerror", lambda fault: faults.append(str(fault)))
        page.on("console", lambda said: faults.append(said.text) if said.type == "error" else None)
        page.on(
            "request", lambda asked: faults.append(asked.url) if not asked.url.startswith(("file:", "blob:")) else None
        )
        page.on("dialog", lambda asked: faults.append(asked.message) if asked.type == "alert" else asked.accept())
        page.goto(file.as_uri())
        until(page, "document.documentElement.dataset.ready === 'yes'", 120.0)
        return page

    yield show
    for context in contexts:
        context.close()
    assert not faults
