"""The commands, and running one by its words."""

from __future__ import annotations

from pathlib import Path

import typer

from kestrav.cli.checking_commands import check, compare, info, new, rules, schema
from kestrav.cli.making_commands import batch, export, extract, poses, render
from kestrav.core.errors import BadInput

app = typer.Typer(
    add_completion=False,
    help="Move parts, products and cameras along paths; know what is wrong before you render.",
    pretty_exceptions_enable=False,
    no_args_is_help=True,
)
_COMMANDS = (new, info, check, compare, extract, render, export, poses, batch, schema, rules)
for command in _COMMANDS:
    app.command()(command)
COMMANDS = tuple(command.__name__ for command in _COMMANDS)


def run(arguments: list[str]) -> int:
    """Run a command, or open the window on a file that is named like no project; the exit code.

    Raises BadInput for words that cannot be done.
    """
    if arguments[0] not in COMMANDS and not arguments[0].startswith("-"):
        from kestrav.app.shell.start import run_window

        if len(arguments) > 1:
            raise BadInput(f"“{arguments[0]}” is not a command; commands are {', '.join(COMMANDS)}")
        return run_window(Path(arguments[0]))
    try:
        return int(app(arguments, standalone_mode=False) or 0)
    except typer.TyperException as fault:
        raise BadInput(fault.format_message()) from fault
    except typer.Exit as stop:
        return stop.exit_code
    except typer.Abort as stop:
        raise KeyboardInterrupt from stop
