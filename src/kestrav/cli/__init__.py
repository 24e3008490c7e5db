"""The command line: the same work without a window. Exit 0 fine, 1 breaches found, 2 bad input."""

from __future__ import annotations

import gc
import json
import sys
from pathlib import Path

from kestrav.core.errors import BadInput


def main(arguments: list[str] | None = None) -> int:
    """Run a command, or open the window when none is named."""
    arguments = sys.argv[1:] if arguments is None else arguments
    # what a command loads stays to its end; to look through it often for what could be thrown away takes a tenth of the short ones
    gc.set_threshold(50_000, 20, 20)
    if arguments[:1] == ["--version"]:
        from kestrav import __version__

        print(f"Kestrav {__version__}")
        return 0
    try:
        if not arguments or (len(arguments) == 1 and arguments[0].endswith(".kestrav")):
            # the window does without what reads the words of commands
            from kestrav.app.shell.start import run_window

            return run_window(Path(arguments[0]) if arguments else None)
        from kestrav.cli.commands import run

        return run(arguments)
    except BadInput as fault:
        if "--json" in arguments:
            print(json.dumps({"error": str(fault)}, ensure_ascii=False))
        print(f"kestrav: {fault}", file=sys.stderr)
        return 2
    except KeyboardInterrupt:
        print("stopped", file=sys.stderr)
        return 130
