"""How many of the phrases of tests/speech/phrases.json general-purpose date parsers read rightly, and how this reader
does.

pip install dateparser parsedatetime python-dateutil recurrent ctparse timefhuman; python benchmarks/dates.py. Those
that are missing are named and left out. A point is right with its minute, a day with its date, a range with both ends,
a repetition with its rule.
"""

from __future__ import annotations

import contextlib
import json
import statistics
import sys
import time
import warnings
from collections.abc import Callable
from datetime import date, datetime, timedelta
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

ROOT = Path(__file__).resolve().parent.parent
DATA = json.loads((ROOT / "tests/speech/phrases.json").read_text(encoding="utf-8"))
NOW = datetime.fromisoformat(DATA["now"])
Read = tuple[datetime | date | None, datetime | date | None, str]  # start, end, rule
Reader = Callable[[str], Read]


def _ours() -> Reader:
    from whenvoca.speech.request import Surroundings
    from whenvoca.speech.understanding import understand

    zone = ZoneInfo("Atlantic/Azores")
    around = Surroundings(NOW.replace(tzinfo=zone), zone)

    def read(text: str) -> Read:
        events = understand(f"make lens test {text}", around).events
        if not events:
            return None, None, ""
        start, end = events[0].start, events[0].end
        if end is not None and not isinstance(end, datetime):
            end -= timedelta(days=1)
        return _plain(start), _plain(end), events[0].repeat

    return read


def _plain(moment: datetime | date | None) -> datetime | date | None:
    return moment.replace(tzinfo=None) if isinstance(moment, datetime) else moment


def _dateparser() -> Reader:
    import dateparser

    settings: Any = {"RELATIVE_BASE": NOW, "PREFER_DATES_FROM": "future"}
    return lambda text: (dateparser.parse(text, languages=["en"], settings=settings), None, "")


def _parsedatetime() -> Reader:
    import parsedatetime

    calendar = parsedatetime.Calendar()

    def read(text: str) -> Read:
        found = calendar.nlp(text, sourceTime=NOW)
        return (found[0][0], None, "") if found else (None, None, "")

    return read


def _dateutil() -> Reader:
    from dateutil import parser

    def read(text: str) -> Read:
        with contextlib.suppress(ValueError, OverflowError):
            return parser.parse(text, default=NOW.replace(hour=0, minute=0), fuzzy=True), None, ""
        return None, None, ""

    return read


def _recurrent() -> Reader:
    from recurrent.event_parser import RecurringEvent

    def read(text: str) -> Read:
        found = RecurringEvent(now_date=NOW).parse(text)
        if isinstance(found, str):
            rule = next((line.removeprefix("RRULE:") for line in found.splitlines() if line.startswith("RRULE:")), "")
            return None, None, rule
        return (found if isinstance(found, datetime) else None), None, ""

    return read


def _ctparse() -> Reader:
    import logging

    from ctparse import ctparse

    logging.disable(logging.CRITICAL)

    def read(text: str) -> Read:
        found = ctparse(text, ts=NOW, timeout=2)
        value = found.resolution if found else None
        if value is None:
            return None, None, ""
        ends = (
            (getattr(value, "t_from", None), getattr(value, "t_to", None))
            if hasattr(value, "t_from")
            else (value, None)
        )
        return *(each.dt if each is not None and hasattr(each, "dt") else None for each in ends), ""  # type: ignore[return-value]

    return read


def _timefhuman() -> Reader:
    from timefhuman import tfhConfig, timefhuman

    config = tfhConfig(now=NOW)

    def read(text: str) -> Read:
        found = timefhuman(text, config=config)
        first = found[0] if isinstance(found, list) and found else found
        if isinstance(first, tuple):
            return first[0], first[1], ""
        return (first, None, "") if isinstance(first, date) else (None, None, "")

    return read


READERS: dict[str, Callable[[], Reader]] = {
    "this reader": _ours,
    "dateparser": _dateparser,
    "parsedatetime": _parsedatetime,
    "dateutil, fuzzy": _dateutil,
    "recurrent": _recurrent,
    "ctparse": _ctparse,
    "timefhuman": _timefhuman,
}


def judge(phrase: dict[str, Any], found: Read) -> str:
    """Right, wrong, or nothing found."""
    start, end, rule = found
    if start is None and not rule:
        return "nothing"
    if phrase["kind"] == "recur":
        wanted = phrase["rrule"].split(";UNTIL")[0]
        parts = {each for each in rule.split(";UNTIL")[0].split(";") if each not in ("INTERVAL=1", "WKST=MO")}
        return (
            "right"
            if set(wanted.split(";")) == {each for each in parts if not each.startswith(("BYHOUR", "BYMINUTE"))}
            else "wrong"
        )
    length = 10 if phrase["kind"] == "day" else len(phrase["start"])
    is_right = start is not None and start.isoformat()[:length] == phrase["start"][:length]
    if phrase["kind"] == "range":
        is_right = is_right and end is not None and end.isoformat()[: len(phrase["end"])] == phrase["end"]
    return "right" if is_right else "wrong"


def main() -> None:
    """Prints a line a reader, as docs/benchmarks.md has it."""
    warnings.simplefilter("ignore")
    print("| reader | right | wrong | nothing | median |\n| --- | --- | --- | --- | --- |")
    for name, make in READERS.items():
        try:
            read = make()
        except ImportError as error:
            print(f"{name} is not installed: {error}", file=sys.stderr)
            continue
        counts = {"right": 0, "wrong": 0, "nothing": 0}
        spent = []
        for phrase in DATA["phrases"]:
            begun = time.perf_counter()
            try:
                found: Read = read(phrase["text"])
            except Exception:  # a foreign parser may raise anything
                found = (None, None, "")
            spent.append(time.perf_counter() - begun)
            counts[judge(phrase, found)] += 1
        print(
            f"| {name} | {counts['right']} | {counts['wrong']} | {counts['nothing']} | "
            f"{statistics.median(spent) * 1000:.2f} ms |"
        )


if __name__ == "__main__":
    main()
