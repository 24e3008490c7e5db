"""Firefox by WebDriver BiDi (W3C, https://www.w3.org/TR/webdriver-bidi/), as far as the tests of review pages need it.

Debian ships no driver for it, but the browser itself listens when it is started with a port.
"""

import asyncio
import base64
import json
import re
import shutil
import subprocess
import tempfile
import threading
import time
from itertools import count
from pathlib import Path

from tornado.websocket import websocket_connect

LONGEST = 120.0  # s that an answer may take


class Firefox:
    """A browser on the display there is (without one it draws nothing in 3D), and the one page in it."""

    def __init__(self, size=(1280, 800)):
        self.folder = tempfile.TemporaryDirectory()
        # a machine without graphics hardware draws in software, which is off by default
        preferences = {"webgl.force-enabled": True, "webgl.enable-webgl2": True, "gfx.x11-egl.force-enabled": True}
        lines = [f"user_pref({json.dumps(name)}, {json.dumps(value)});\n" for name, value in preferences.items()]
        Path(self.folder.name, "user.js").write_text("".join(lines), encoding="utf-8")
        command = [
            "firefox-esr",
            "--headless",
            "--no-remote",
            "--profile",
            self.folder.name,
            "--remote-debugging-port",
            "0",
        ]
        self.process = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, text=True)
        # a loop of its own, as another browser's driver may have one in this thread
        self.loop, self.numbers = asyncio.new_event_loop(), count(1)
        self.thread = threading.Thread(target=self.loop.run_forever, daemon=True)
        self.thread.start()
        self.socket = None
        self.faults = []
        try:
            self._begin(size)
        except BaseException:
            self.close()
            raise

    def _begin(self, size):
        address = next(found[0] for line in self.process.stderr if (found := re.search(r"ws://\S+", line)))
        # what it says is read on, or it would wait for that some day
        threading.Thread(target=self.process.stderr.read, daemon=True).start()
        self.socket = self._wait(lambda: websocket_connect(f"{address}/session", max_message_size=2**28))
        self.ask("session.new", capabilities={"alwaysMatch": {"unhandledPromptBehavior": {"default": "dismiss"}}})
        self.ask("session.subscribe", events=["log.entryAdded", "network.beforeRequestSent"])
        self.page = self.ask("browsingContext.getTree")["contexts"][0]["context"]
        self.ask("browsingContext.setViewport", context=self.page, viewport={"width": size[0], "height": size[1]})

    def _wait(self, start):
        """What comes of something that is started in the loop's thread."""

        async def run():
            return await start()

        return asyncio.run_coroutine_threadsafe(run(), self.loop).result(LONGEST)

    def ask(self, method, **parameters):
        """What the browser answers to a command; what goes wrong in the page or is asked of anybody until then is noted."""
        number = next(self.numbers)
        message = json.dumps({"id": number, "method": method, "params": parameters})
        self._wait(lambda: self.socket.write_message(message))
        while True:
            told = json.loads(self._wait(self.socket.read_message))
            if told.get("id") == number:
                assert told["type"] == "success", told
                return told["result"]
            heard = told.get("params", {})
            if told.get("method") == "log.entryAdded" and heard["level"] == "error":
                self.faults.append(heard["text"])
            asked = heard.get("request", {}).get("url", "file:")
            if not asked.startswith(("file:", "blob:", "data:", "about:")):
                self.faults.append(asked)

    def open(self, address):
        """Show a page."""
        self.ask("browsingContext.navigate", context=self.page, url=address, wait="complete")

    def evaluate(self, code, argument=None):
        """What an expression in the page is, or what a function gives for an argument."""
        called = f"({code})({json.dumps(argument)})" if argument is not None else f"({code})"
        answer = self.ask(
            "script.evaluate",
            expression=f"JSON.stringify({called})",
            target={"context": self.page},
            awaitPromise=True,
        )
        assert answer["type"] == "success", answer
        return json.loads(answer["result"].get("value", "null"))

    def wait_for_timeout(self, milliseconds):
        """Let some time pass."""
        time.sleep(milliseconds / 1000)

    def click(self, selector, across=0.5, down=0.5):
        """Click at a share of the width and height of what a selector finds."""
        box = self.evaluate(
            "s => { const e = document.querySelector(s); e.scrollIntoView({block: 'nearest'}); const b = e.getBoundingClientRect();"
            " return [b.x, b.y, b.width, b.height] }",
            selector,
        )
        x, y = round(box[0] + across * box[2]), round(box[1] + down * box[3])
        steps = [
            {"type": "pointerMove", "x": x, "y": y},
            {"type": "pointerDown", "button": 0},
            {"type": "pointerUp", "button": 0},
        ]
        self._perform({"type": "pointer", "id": "mouse", "actions": steps})

    def type(self, *keys):
        """Press keys one after another; what has no letter is named as in the standard, as ``\\ue014`` for the arrow to the right."""
        steps = [{"type": kind, "value": key} for key in keys for kind in ("keyDown", "keyUp")]
        self._perform({"type": "key", "id": "keyboard", "actions": steps})

    def _perform(self, source):
        self.ask("input.performActions", context=self.page, actions=[source])

    def screenshot(self):
        """The page as a PNG."""
        return base64.b64decode(self.ask("browsingContext.captureScreenshot", context=self.page)["data"])

    def close(self):
        """End it."""
        self.process.kill()
        self.process.communicate()
        if self.socket is not None:
            self.loop.call_soon_threadsafe(self.socket.close)
        self.loop.call_soon_threadsafe(self.loop.stop)
        self.thread.join(10.0)
        self.loop.close()
        shutil.rmtree(self.folder.name, ignore_errors=True)
