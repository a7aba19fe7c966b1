"""The steps `read event from TEXT` and `read events from TEXT`: what is asked for in plain English."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from whenvoca.engine.acting.keyed import Acting
from whenvoca.engine.acting.step_call import StepCall
from whenvoca.errors import RowFault
from whenvoca.language.definitions import PlaceInfo, Sentence, StepDefinition
from whenvoca.language.types import DATE, DURATION, MOMENT, TEXT, YES_NO, Type, list_of, thing
from whenvoca.speech.emails import understand_email
from whenvoca.speech.reply import show_wish
from whenvoca.speech.request import Wish
from whenvoca.steps.read_fields import around
from whenvoca.values.durations import Duration
from whenvoca.values.texts import show_value
from whenvoca.values.zones import first_moment


def wish_type(place: PlaceInfo | None = None) -> Type:
    """The type of an event that is asked for."""
    return thing(
        "event that is asked for",
        {
            **dict.fromkeys(("title", "location", "repeat"), TEXT),
            **dict.fromkeys(("start", "end"), MOMENT),
            **dict.fromkeys(("first-day", "last-day"), DATE),
            "length": DURATION,
            "attendees": list_of(TEXT),
            "whole-day": YES_NO,
            "sure": YES_NO,
            "missing": list_of(TEXT),
        },
    )


class WishThing:
    """An event that is asked for. ``missing`` says what it lacks, ``is_sure`` that it lacks nothing and has one
    reading."""

    def __init__(self, wish: Wish, missing: list[str], *, is_sure: bool, zone: Any) -> None:
        self._wish, self._missing, self._is_sure, self._zone = wish, missing, is_sure, zone

    @property
    def key(self) -> str:
        """What tells it from the others of the same text."""
        return f"{self._wish.title} {self._wish.start.isoformat() if self._wish.start else ''}"

    def where_is(self, word: str) -> str:
        """Which event."""
        return f'the event "{self._wish.title}" that is asked for'

    def value_of(self, word: str) -> Any:
        """The field's value. Raises KeyError for a name that is none of its fields."""
        wish, start, end = self._wish, self._wish.start, self._wish.end
        is_whole = start is not None and not isinstance(start, datetime)
        match word:
            case "title" | "location" | "repeat":
                return getattr(wish, word) or None
            case "attendees":
                return list(wish.attendees)
            case "missing":
                return list(self._missing)
            case "sure":
                return self._is_sure
            case "whole-day":
                return is_whole
            case "start" | "end":
                value = start if word == "start" else end
                return first_moment(value, self._zone) if is_whole and value is not None else value
            case "first-day":
                return start.date() if isinstance(start, datetime) else start
            case "last-day":
                return _last_day(start, end)
            case "length":
                known = start is not None and end is not None
                low, high = self.value_of("start"), self.value_of("end")
                return Duration.between(low, high) if known else None
        raise KeyError(word)


def _last_day(start: Any, end: Any) -> Any:
    from datetime import timedelta

    if end is None:
        return start.date() if isinstance(start, datetime) else start
    last = end - (timedelta(microseconds=1) if isinstance(end, datetime) else timedelta(days=1))
    return last.date() if isinstance(last, datetime) else last


def _read(call: StepCall) -> list[WishThing]:
    here = around(call)
    request = understand_email(show_value(call.sentence_value), here)
    if request.intent == "ask" and request.purpose == "create" and request.events and request.offers:
        raise RowFault(
            f"the text can be read in several ways; the likeliest: {show_wish(request.events[0], here.zone)}",
            fix="read it with whenvoca read text, and say it in other words",
        )
    if request.intent != "create":
        return []
    is_sure = not request.missing and not request.question
    return [WishThing(wish, request.missing, is_sure=is_sure, zone=here.zone) for wish in request.events]


def _read_all(call: StepCall) -> Acting:
    yield from ()
    return _read(call)


def _read_one(call: StepCall) -> Acting:
    yield from ()
    found = _read(call)
    if not found:
        raise RowFault("the text asks for no event")
    if len(found) > 1:
        told = "; ".join(show_wish(each._wish, call.scope.zone) for each in found[:5])
        raise RowFault(f"the text asks for {len(found)} events: {told}", fix="read events from takes all of them")
    return found[0]


_HOW = (
    "Days such as next tuesday count from when the email was sent. NAME.sure tells whether nothing is missing and the "
    "text has one reading, NAME.missing lists what is missing (title, start)."
)
READ_EVENT = StepDefinition(
    sentence=Sentence("read event from TEXT"),
    meaning=f"Reads the one event that a text asks for in plain English; it fails where it asks for none, or for "
    f"several. {_HOW}",
    reads_only=True,
    makes=wish_type,
    value_type="text",
    example="read event from email.new-text as wish",
    act=_read_one,
)
READ_EVENTS = StepDefinition(
    sentence=Sentence("read events from TEXT"),
    meaning=f"Reads the events that a text asks for in plain English: a list, perhaps empty. {_HOW}",
    reads_only=True,
    makes=lambda place: list_of(wish_type(place)),
    value_type="text",
    example="read events from email.new-text as wishes\nfor each wish in wishes",
    act=_read_all,
)
