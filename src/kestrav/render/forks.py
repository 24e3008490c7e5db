"""Children that are forked: they begin at once, with all that their parent has in memory."""

from __future__ import annotations

import os
import signal
import sys
import threading
import traceback
from collections.abc import Callable

_drawn = False


def note_drawing() -> None:
    """Remember that this process has drawn: the graphics library's threads and connections do not live on in a fork."""
    global _drawn
    _drawn = True


def may_fork() -> bool:
    """Whether nothing of this process would be torn by a fork: pictures, windows, threads."""
    return not _drawn and threading.active_count() == 1 and "PySide6.QtWidgets" not in sys.modules


class Fork:
    """A child that does some work, whose outcome is its exit code; handled like a ``subprocess.Popen``."""

    def __init__(self, work: Callable[[], int], surroundings: dict[str, str]) -> None:
        self._code: int | None = None
        self._pid = os.fork()
        if self._pid:
            return
        code = 1
        try:
            signal.signal(signal.SIGTERM, signal.SIG_DFL)
            os.environ |= surroundings
            code = work()
        except Exception:
            traceback.print_exc()
        finally:
            # nothing of the parent's is tidied up twice
            os._exit(code)

    def poll(self) -> int | None:
        """The exit code, or None while it is at work."""
        if self._code is None:
            pid, status = os.waitpid(self._pid, os.WNOHANG)
            if pid:
                self._code = os.waitstatus_to_exitcode(status)
        return self._code

    def terminate(self) -> None:
        """Ask it to end."""
        os.kill(self._pid, signal.SIGTERM)

    def wait(self) -> int:
        """Wait for its end."""
        if self._code is None:
            self._code = os.waitstatus_to_exitcode(os.waitpid(self._pid, 0)[1])
        return self._code
