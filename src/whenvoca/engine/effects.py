"""Effects: each one write to one place, as plain data that can be journalled, shown and undone."""

from __future__ import annotations

from typing import Any, Literal

from msgspec import Struct

from whenvoca.calendars.event import Event
from whenvoca.values.durations import Duration
from whenvoca.values.records import Record
from whenvoca.values.texts import show_value

Verb = Literal[
    "create event",
    "change event",
    "delete event",
    "put back event",
    "take event as made",
    "change row",
    "add row",
    "delete row",
    "put back row",
    "fill sheet",
    "create task",
    "change task",
    "delete task",
    "put back task",
    "take task as made",
    "send message",
    "send letter",
    "set presence",
    "restore presence",
    "return presence",
    "call",
]
TAKING_AWAY = ("delete event", "delete task", "delete row")
ALTERING = ("change event", "change task", "change row", *TAKING_AWAY)
THE_WEB = "the web"  # stands for a place in calls
TELLING = ("send message", "send letter", "call")  # what cannot be taken back


def deed_of(verb: str) -> str:
    """What a verb does to its thing: create, change, delete, put back, add; or take, where it stands already."""
    return "take" if verb.startswith("take ") else verb.rpartition(" ")[0]


def noun_of(verb: str) -> str:
    """What a verb is done to: event, task, row."""
    return verb.split(" ")[1] if verb.startswith("take ") else verb.rpartition(" ")[2]


class Effect(Record, frozen=True, kw_only=True):
    """One write. ``before`` and ``after`` map field names to values; None before means: it did not stand there.

    ``version`` is what the place said of the thing when this was decided. ``notes`` are told to people. ``kept`` is
    what stood there whole (iCalendar, for an undo). ``base`` is the state that a mirror will hold later changes
    against.
    """

    ignored_fields = ("event", "stored")

    place: str
    verb: Verb
    target: str
    before: dict[str, Any] | None = None
    after: dict[str, Any] | None = None
    lineage: str = ""
    number: int = 0
    version: str = ""
    notes: tuple[str, ...] = ()
    kept: str = ""
    base: dict[str, Any] | None = None
    event: Event | None = None  # whole, for the calendar; not journalled
    stored: Any = None  # what the place gave when this was decided; not journalled


def show_field(name: str, value: Any) -> str:
    """A field's value for people: alarms say when, addresses of files only which; empty where there is none."""
    if name == "alarm" and value:
        spans = value if isinstance(value, list | tuple) else [value]
        return ", ".join(_show_alarm(span) for span in spans)
    text = show_value(value)
    return "file://…/" + text.rpartition("/")[2] if text.startswith("file://") else text


def _show_alarm(span: Any) -> str:
    if not isinstance(span, Duration):
        return show_value(span)
    return f"{show_value(-span)} before" if span.to_seconds() < 0 else f"{show_value(span)} after"


class Receipt(Struct, frozen=True):
    """What the place said after the write: the thing's version and address. ``is_pending``: its file is not saved
    yet."""

    version: str = ""
    address: str = ""
    is_pending: bool = False


class EffectKey(Struct, frozen=True):
    """Which effect of a run this is, the same when the run is worked through again: the n-th of a step on one target.
    So what a run finds done already, and leaves out, makes no other effect look like it."""

    step: str
    repetition: str
    ordinal: int
    target: str = ""  # place and target of the effect
