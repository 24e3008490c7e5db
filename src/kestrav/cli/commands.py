"""Running a command by its words."""

from __future__ import annotations

import json
import sys
from pathlib import Path

import typer

from kestrav.cli import checking_commands, making_commands
from kestrav.cli.base import app
from kestrav.core.errors import BadInput

# they are in the application as soon as they are loaded
_ROOMS = (checking_commands, making_commands)
COMMANDS = tuple(command.callback.__name__ for command in app.registered_commands if command.callback is not None)


def run(arguments: list[str]) -> int:
    """Run a command, or open the window on a project; the exit code."""
    as_json = "--json" in arguments
    try:
        if arguments and arguments[0] not in COMMANDS and not arguments[0].startswith("-"):
            from kestrav.app.shell.start import run_window

            if len(arguments) > 1:
                raise BadInput(f"“{arguments[0]}” is not a command; commands are {', '.join(COMMANDS)}")
            return run_window(Path(arguments[0]))
        code = app(arguments, standalone_mode=False)
        return int(code or 0)
    except BadInput as fault:
        return complain(str(fault), as_json=as_json)
    except typer.TyperException as fault:
        return complain(fault.format_message(), as_json=as_json)
    except typer.Exit as stop:
        return stop.exit_code
    except (KeyboardInterrupt, typer.Abort):
        print("stopped", file=sys.stderr)
        return 130


def complain(message: str, *, as_json: bool) -> int:
    """Say what happened and what to do, for machines as well where that is asked for; the exit code."""
    if as_json:
        print(json.dumps({"error": message}, ensure_ascii=False))
    print(f"kestrav: {message}", file=sys.stderr)
    return 2
