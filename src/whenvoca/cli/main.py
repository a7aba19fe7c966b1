"""The `whenvoca` command: loads the one command that is asked for, and turns every error into words and a status."""

from __future__ import annotations

import gc
import os
import sys
from importlib import import_module
from typing import Any

import click

from whenvoca import __version__
from whenvoca.cli.show.escapes import escape
from whenvoca.errors import ExitCode, LedgerTrouble, WhenvocaError
from whenvoca.unforeseen import tell_unforeseen

# Name: (module below whenvoca.cli, what the overview says). The module holds a command named `command`.
COMMANDS = {
    "demo": ("demo", "Write the Larkmoor workspace and play the tour."),
    "new": ("new", "Make an empty workspace with one commented workflow."),
    "read": ("read", "Show how a sheet, or a request in words, would be understood."),
    "draft": ("draft", "Write a first workflow for a strange spreadsheet."),
    "check": ("check", "Find all faults of workspace and workflows at once."),
    "tidy": ("tidy", "Put workflow files into the standard layout."),
    "rehearse": ("rehearse", "Show what a run would do, with nothing written."),
    "run": ("run", "Take up what is waiting, once."),
    "watch": ("watch", "Keep taking up what is waiting, as it comes."),
    "runs": ("runs", "Show the history, newest first."),
    "explain": ("explain", "Tell why a run did what it did, or why there was none."),
    "undo": ("undo", "Take runs back."),
    "retry": ("retry", "Run again what failed."),
    "say": ("say", "Ask for something in your own words."),
    "agenda": ("agenda", "Show the calendars as a list, a week or a picture."),
    "report": ("report", "Show where the time went: by week, place, person and more."),
    "tasks": ("tasks", "Show the open tasks, the most urgent first."),
    "places": ("places", "Show each place and whether it answers."),
    "words": ("words", "Look up the workflow language."),
    "consent": ("consent", "Consent to the use of an account that takes no password."),
    "pause": ("pause", "Turn workflows off."),
    "resume": ("resume", "Turn workflows on again."),
    "stand-in": ("stand_in", "Start a small stand-in for a service outside."),
    "claim": ("claim", "Settle whose workspace this is after copying or moving it."),
}


class Commands(click.Group):
    """A group that imports a command when it is asked for."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        """In the order in which a person works."""
        return list(COMMANDS)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        """The command, imported now; a name that is none is answered with the nearest."""
        if cmd_name not in COMMANDS:
            from whenvoca.language.faults import nearest

            ctx.fail(f'there is no command "{cmd_name}"; {nearest(cmd_name, COMMANDS)}')
        found: click.Command = import_module(f"whenvoca.cli.{COMMANDS[cmd_name][0]}").command
        return found

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """The overview, without importing any command."""
        with formatter.section("Commands"):
            formatter.write_dl([(name, said) for name, (_, said) in COMMANDS.items()])


@click.group(
    cls=Commands,
    context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100},
    epilog="Begin with: whenvoca demo   or: whenvoca new DIR",
)
@click.version_option(__version__, "--version", prog_name="whenvoca", message="%(prog)s %(version)s")
def cli() -> None:
    """Workflows between spreadsheets and calendars, in sentences, checked before they run.

    Each command has help with an example: whenvoca COMMAND -h
    """


def main(arguments: list[str] | None = None) -> None:
    """Runs the command line and ends the process with its status."""
    sys.exit(run_command(sys.argv[1:] if arguments is None else arguments))


def run_command(arguments: list[str], connected: Any = None) -> int:
    """Runs one command; answers the exit status. Never a traceback. ``connected`` is an opened workspace with the
    connections of this process, if it has any."""
    gc.set_threshold(100_000, 20, 50)  # a batch keeps thousands of runs alive; looking through them often costs a fifth
    try:
        return int(cli.main(arguments, prog_name="whenvoca", standalone_mode=False, obj=connected) or 0)
    except click.exceptions.Abort:
        click.echo("\ninterrupted; what was begun goes on with the next run", err=True)
        return ExitCode.INTERRUPTED
    except KeyboardInterrupt:
        click.echo("\ninterrupted; what was begun goes on with the next run", err=True)
        return ExitCode.INTERRUPTED
    except click.exceptions.NoArgsIsHelpError as error:
        click.echo(error.format_message())
        return ExitCode.WRONG
    except click.ClickException as error:
        error.show(sys.stderr)
        return ExitCode.WRONG
    except WhenvocaError as error:
        if (handed := _hand_over(arguments, error)) is not None:
            return handed
        _say_error(error)
        return error.exit_code
    except BrokenPipeError:
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return ExitCode.DONE
    except Exception as error:
        try:
            click.echo(f"{tell_unforeseen(error)}. Nothing half-done stays: run again", err=True)
        except LedgerTrouble as trouble:
            _say_error(trouble)
            return trouble.exit_code
        return ExitCode.UNFORESEEN


def _hand_over(arguments: list[str], error: WhenvocaError) -> int | None:
    """Where another process watches the workspace it does the work; None where it is none of that."""
    folder = getattr(error, "folder", None)
    if folder is None:
        return None
    from whenvoca.cli.handover import hand_over

    try:
        done = hand_over(arguments, folder)
    except WhenvocaError as trouble:
        _say_error(trouble)
        return trouble.exit_code
    return run_command(arguments) if done is None else done


def _say_error(error: WhenvocaError) -> None:
    where = f"{error.where}: " if error.where else ""
    click.echo(escape(f"{where}{error.message}"), err=True)
    if error.fix:
        click.echo(escape(f"  {error.fix}"), err=True)
