"""Questions that a workflow asks (`ask`), and answers read by their kind."""

from __future__ import annotations

from datetime import date, datetime, time
from decimal import Decimal, InvalidOperation
from typing import Any
from zoneinfo import ZoneInfo

from msgspec import Struct

from whenvoca.errors import RequestFault, WhenvocaError
from whenvoca.language.faults import nearest
from whenvoca.values.dates import shape_date
from whenvoca.values.durations import parse_clock_duration, parse_duration
from whenvoca.values.kinds import is_empty
from whenvoca.values.times import shape_time
from whenvoca.values.zones import to_moment

_FORMS = {
    "number": "such as 35",
    "yes/no": "yes or no",
    "date": "such as 2027-03-24",
    "time": "such as 21:30",
    "moment": "such as 2027-03-24 21:30",
    "duration": "such as 45 minutes",
    "text": "a text",
    "list": "one a line",
}


class Question(Struct, frozen=True):
    """One question: its name, its words, and what may be answered."""

    name: str
    text: str
    kind: str = "text"
    default: Any = None
    choices: tuple[str, ...] = ()
    about: str = ""  # what it is asked of, where the same is asked several times


class NobodyAnswers(RequestFault):
    """A question is asked where nobody can answer it."""


def read_answer(question: Question, text: str, zone: ZoneInfo, dates: str = "") -> Any:
    """The value of an answer. ``dates`` decides how 03/04 is read. Raises RequestFault where it is none of the kind."""
    text = text.strip()
    if is_empty(text) and not is_empty(question.default):
        return question.default
    if is_empty(text):
        raise RequestFault(f'"{question.name}" is empty', fix=f"--give {question.name}=…, {_FORMS[question.kind]}")
    try:
        value = _read(question.kind, text, zone, dates)
    except (ValueError, InvalidOperation, WhenvocaError):
        value = None
    if value is None:
        raise RequestFault(f'{question.name}: "{text}" is no {question.kind}', fix=_FORMS[question.kind])
    if question.choices:
        chosen = next((each for each in question.choices if each.casefold() == text.casefold()), None)
        if chosen is None:
            fix = nearest(text, question.choices) or f"one of: {', '.join(question.choices)}"
            raise RequestFault(f'{question.name}: "{text}" is none of the choices', fix=fix)
        return chosen if question.kind == "text" else value
    return value


def _read(kind: str, text: str, zone: ZoneInfo, dates: str) -> Any:
    match kind:
        case "number":
            number = Decimal(text.replace(",", "."))
            return int(number) if number == number.to_integral_value() else number
        case "yes/no":
            return {"yes": True, "y": True, "no": False, "n": False}.get(text.lower())
        case "date":
            return _day(text, dates)
        case "time":
            return _clock(text)
        case "moment":
            return _moment(text, zone, dates)
        case "duration":
            return parse_duration(text) or parse_clock_duration(text)
        case "list":
            return [line.strip() for line in text.replace("\r", "").split("\n") if line.strip()]
    return text


def _day(text: str, dates: str) -> date | None:
    shaped = shape_date(text)
    found: date | None = None if shaped is None else shaped.fits.get("" if shaped.is_settled else dates)
    return found


def _clock(text: str) -> time | None:
    shaped = shape_time(text)
    values = set(shaped.fits.values()) if shaped is not None else set()
    found: time | None = values.pop() if len(values) == 1 else None
    return found


def _moment(text: str, zone: ZoneInfo, dates: str) -> datetime | None:
    day, _, clock = text.replace(" at ", " ").replace("T", " ").rpartition(" ")
    found_day, found_clock = _day(day, dates), _clock(clock)
    return (
        None if found_day is None or found_clock is None else to_moment(datetime.combine(found_day, found_clock), zone)
    )
