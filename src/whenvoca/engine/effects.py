"""Effects: each one write to one place, as plain data that can be journalled, shown and undone."""

from __future__ import annotations

from typing import Any

from msgspec import Struct

from whenvoca.calendars.event import Event
from whenvoca.values.durations import Duration
from whenvoca.values.records import Record
from whenvoca.values.texts import show_value

THE_FILES = "files"  # stands for a place where files are kept in the workspace
THE_WEB = "the web"  # stands for a place in calls
MEETINGS = "meeting links"  # stands for a place where links to join from afar are made and ended
_LONG = 40  # signs of a value after which it is cut in a list


class Effect(Record, frozen=True, kw_only=True):
    """One write. ``before`` and ``after`` map field names to values; None before means: it did not stand there.

    ``version`` is what the place said of the thing when this was decided. ``notes`` are told to people. ``kept`` is
    what stood there whole (iCalendar, for an undo). ``base`` is the state that a mirror will hold later changes
    against.
    """

    ignored_fields = ("event", "stored", "parts")

    place: str
    verb: str  # an action and the noun it is done to: create event, put back row
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
    parts: tuple[tuple[Event, Event], ...] = ()  # occurrences of a series as they are and are to be; not journalled

    @property
    def action(self) -> str:
        """What is done: the verb without its noun (create, change, delete, put back, send); by it places decide."""
        return "take" if self.verb.startswith("take ") else self.verb.rpartition(" ")[0]

    @property
    def noun(self) -> str:
        """What it is done to: event, task, row."""
        return self.verb.split(" ")[1] if self.verb.startswith("take ") else self.verb.rpartition(" ")[2]


def show_field(name: str, value: Any) -> str:
    """A field's value for people: reminders say when, addresses of files only which; empty where there is none."""
    if name == "reminder" and value:
        spans = value if isinstance(value, list | tuple) else [value]
        return ", ".join(_show_reminder(span) for span in spans)
    text = show_value(value)
    return "file://…/" + text.rpartition("/")[2] if text.startswith("file://") else text


def show_brief(value: Any, name: str = "") -> str:
    """A field's value on one line, cut where it is long; "empty" where there is none."""
    text = show_field(name, value).replace("\n", " ")
    return (text[: _LONG - 1] + "…" if len(text) > _LONG else text) or "empty"


def show_changes(effect: Effect) -> list[str]:
    """Each field or cell, old → new."""
    before, after = effect.before or {}, effect.after or {}
    return [
        f"{name}: {show_brief(before.get(name), name)} → {show_brief(value, name)}" for name, value in after.items()
    ]


def show_fields(effect: Effect) -> str:
    """The same, one a line."""
    return "\n".join(show_changes(effect))


def _show_reminder(span: Any) -> str:
    if not isinstance(span, Duration):
        return show_value(span)
    return f"{show_value(-span)} before" if span.to_seconds() < 0 else f"{show_value(span)} after"


class Receipt(Struct, frozen=True):
    """What the place said after the write: version and address. ``is_pending``: its file is not saved yet."""

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
