"""What `run`, `rehearse` and `retry` share: choosing subjects, and asking for a yes."""

from __future__ import annotations

import functools
import re
import shlex
import sys
from collections.abc import Callable, Sequence
from datetime import date, datetime
from typing import Any

import click

from whenvoca.calendars.state import event_key, split_key
from whenvoca.engine.running.run_options import SubjectChoice
from whenvoca.engine.workspace.checking import CheckResult
from whenvoca.errors import ExitCode, RequestFault, WhenvocaError
from whenvoca.language.tree import Workflow


class NeedsYes(WhenvocaError):
    """A yes or no is needed, and nobody is there to give it."""

    exit_code = ExitCode.NEEDS_YES


_MOST_ROWS = 100_000
_MOST_RUNS = 10_000


def choice_options(function: Callable[..., Any]) -> Callable[..., Any]:
    """Adds --row, --key and --event, handed over as ``choice``; None: everything that waits."""

    @click.option("--row", "rows", default="", metavar="ROWS", help="Only these rows, by their numbers: --row 7,9-12.")
    @click.option(
        "--key", "keys", multiple=True, metavar="KEYS", help="Only these rows, by their keys: --key R-101,R-102."
    )
    @click.option(
        "--event",
        "events",
        multiple=True,
        metavar="UID",
        help='Only this event; an occurrence as "UID @ 2027-03-17T09:00Z", by its original start. May be given '
        "several times.",
    )
    @functools.wraps(function)
    def wrapped(*args: Any, rows: str, keys: tuple[str, ...], events: tuple[str, ...], **more: Any) -> Any:
        chosen = frozenset([*parse_keys(keys), *map(parse_event, events)])
        choice = SubjectChoice(parse_rows(rows), chosen) if rows or chosen else None
        return function(*args, choice=choice, **more)

    return wrapped


def parse_rows(text: str) -> frozenset[int]:
    """Row numbers such as 7,9-12. Raises RequestFault."""
    found: set[int] = set()
    for piece in re.split(r"\s*,\s*", text.strip()) if text.strip() else []:
        matched = re.fullmatch(r"(\d+)(?:\s*-\s*(\d+))?", piece)
        if not matched:
            fix = (
                f"by its key it is --key {shlex.quote(piece)}; by its number --row 7,9-12"
                if piece
                else "such as 7,9-12"
            )
            raise RequestFault(f'--row: "{piece}" is no row number', fix=fix)
        low, high = int(matched[1]), int(matched[2] or matched[1])
        if high < low or high - low > _MOST_ROWS:
            raise RequestFault(f'--row: "{piece}" is no span of rows')
        found.update(range(low, high + 1))
    return frozenset(found)


def parse_event(text: str) -> str:
    """The key of an event by its UID, of an occurrence by UID, @ and original start, in any zone or as the JSON has it.

    Raises RequestFault for a start without its zone.
    """
    uid, _, said = text.rpartition(" @ ")
    if not uid or split_key(text)[1]:
        return text
    try:
        if len(said) == len("2027-03-17"):
            return event_key(uid, date.fromisoformat(said))
        start = datetime.fromisoformat(said)
    except ValueError:
        return text  # a UID may hold an @
    if start.tzinfo is None:
        raise RequestFault(f'--event: "{said}" has no zone', fix=f'such as "{uid} @ {said}+01:00", or with Z for UTC')
    return event_key(uid, start)


def parse_keys(texts: Sequence[str]) -> list[str]:
    """Keys of rows such as R-101,R-102."""
    return [key.strip() for text in texts for key in text.split(",") if key.strip()]


def runs_argument(function: Callable[..., Any]) -> Callable[..., Any]:
    """Adds the numbers of runs, handed over as ``runs``, each once."""

    @click.argument("runs", nargs=-1, metavar="[RUN]...")
    @functools.wraps(function)
    def wrapped(*args: Any, runs: tuple[str, ...], **more: Any) -> Any:
        return function(*args, runs=parse_runs(" ".join(runs)), **more)

    return wrapped


def parse_runs(text: str) -> tuple[int, ...]:
    """Numbers of runs as one writes a list of them: 16, or 16, 17, or 9-15. Raises RequestFault."""
    found: list[int] = []
    for piece in filter(None, re.split(r"[\s,]+", text)):
        matched = re.fullmatch(r"(\d{1,12})(?:-(\d{1,12}))?", piece)
        if not matched:
            raise RequestFault(
                f'"{piece}" is no number of a run', fix="such as 16, 17 or 9-15; whenvoca runs lists them"
            )
        low, high = int(matched[1]), int(matched[2] or matched[1])
        if high < low or high - low > _MOST_RUNS:
            raise RequestFault(f'"{piece}" is no span of runs')
        found += range(low, high + 1)
    return tuple(dict.fromkeys(found))


def to_active(result: CheckResult, choice: SubjectChoice | None) -> list[Workflow]:
    """The workflows that run: not those paused; with a choice of subjects, one. Raises RequestFault for several."""
    active = [workflow for workflow in result.workflows if not workflow.settings.paused]
    if choice is not None and len(active) > 1:
        names = ", ".join(workflow.name for workflow in active)
        raise RequestFault(f"which workflow is meant? There are {names}", fix="name one: whenvoca run NAME --row 7")
    return active


def ask_yes(question: str, *, needs_somebody: bool = False) -> bool:
    """Asks on the terminal; no where nobody can answer. Raises NeedsYes there, where that would decide something."""
    if not sys.stdin.isatty():
        if needs_somebody:
            raise NeedsYes(question, fix="say it by an option: --run-missed or --skip")
        return False
    return click.confirm(question, default=False, err=True)
