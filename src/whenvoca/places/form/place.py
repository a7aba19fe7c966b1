"""A form: its fields, when it is open, and what it says."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import date, datetime
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

from msgspec import Struct

from whenvoca.engine.intake_protocols import IntakePlace
from whenvoca.engine.ledger.protocol import Ledger
from whenvoca.errors import RequestFault
from whenvoca.language.definitions import PlaceInfo, WebInfo
from whenvoca.language.faults import nearest
from whenvoca.places.form.fields import FieldFault, FormField, read_posted
from whenvoca.places.form.keeping import keep_entry
from whenvoca.places.sample_file import fields_of, load_sample
from whenvoca.values.durations import Duration, add_to_moment
from whenvoca.values.texts import show_value
from whenvoca.values.zones import first_moment


class ChangeUntil(Struct, frozen=True):
    """Until when an entry may be changed: a span before what a field says, or up to a day."""

    before: Duration | None = None
    field: str = ""
    day: date | None = None


class FormWords(Struct, frozen=True):
    """What a form says besides its fields."""

    title: str
    intro: str = ""
    thanks: str = "Thank you."
    closed: str = "This form is closed."


class Form(IntakePlace):
    """A form on the web."""

    kind = "form"

    def __init__(
        self,
        name: str,
        zone: ZoneInfo,
        path: str,
        fields: Sequence[FormField],
        words: FormWords,
        *,
        opens: date | None = None,
        closes: date | None = None,
        limit: int | None = None,
        notice: Duration | None = None,
        change_until: ChangeUntil | None = None,
        answer_within: float = 8.0,
        dates: str = "",
        confirm: tuple[str, str] | None = None,
    ) -> None:
        self.name, self.zone, self.path, self.fields, self.words = name, zone, path, tuple(fields), words
        self.address = path
        self.opens, self.closes, self.limit, self.notice = opens, closes, limit, notice
        self.change_until, self.answer_within, self._dates = change_until, answer_within, dates
        self.confirm = confirm  # the field whose address gets an email with what was booked, and the outbox

    # --- as a place

    def holds(self) -> str:
        count = len(self.fields)
        return f"{count} field{'s' * (count != 1)}"

    def info(self) -> PlaceInfo:
        columns = tuple(each.column for each in self.fields)
        web = WebInfo(path=self.path, promises_change=self.change_until is not None)
        return PlaceInfo(name=self.name, kind=self.kind, zone=self.zone.key, columns=columns, web=web)

    # --- reading

    def read(self, posted: Mapping[str, Sequence[str]], now: datetime) -> tuple[dict[str, Any], dict[str, str]]:
        """The values by the fields' names, and what is wrong by the fields' words."""
        values: dict[str, Any] = {}
        faults: dict[str, str] = {}
        for field in self.fields:
            try:
                value = read_posted(field, posted.get(field.word, ()), self.zone, self._dates)
            except FieldFault as fault:
                faults[field.word] = str(fault)
            else:
                if value is not None:
                    values[field.name] = value
        if (timed := self._first_time) is not None and timed.name in values and self.notice is not None:
            earliest, value = add_to_moment(now.astimezone(self.zone), self.notice), values[timed.name]
            is_day = not isinstance(value, datetime)
            if value < (earliest.date() if is_day else earliest):
                first = show_value(earliest.date() if is_day else earliest)
                said = (
                    f"This is too soon: please leave us {show_value(self.notice)}. The first that can be had is "
                    f"{first}."
                )
                faults[timed.word] = said
        return values, faults

    def put_sample(self, ledger: Ledger, path: Path, now: datetime) -> None:
        _, values, faults = self.read_sample(load_sample(path), now)
        if faults:
            said = "; ".join(f"{word}: {fault}" for word, fault in faults.items())
            raise RequestFault(f"the entry would be refused: {said}", where=str(path))
        keep_entry(ledger, self.name, values, now)

    def read_sample(
        self, data: Mapping[str, Any], now: datetime
    ) -> tuple[dict[str, list[str]], dict[str, Any], dict[str, str]]:
        """What a sample holds for each field, the values by the fields' names, and what is wrong, both others by the
        fields' words. Raises RequestFault for a sample of something else, or with fields that the form has not."""
        by_name = {name.casefold(): each.word for each in self.fields for name in (each.word, each.name)}
        posted: dict[str, list[str]] = {}
        for name, texts in fields_of(data).items():
            if name.casefold() not in by_name:
                raise RequestFault(
                    f'{self.name} has no field "{name}"', fix=nearest(name, [each.name for each in self.fields])
                )
            posted[by_name[name.casefold()]] = texts
        return posted, *self.read(posted, now)

    @property
    def _first_time(self) -> FormField | None:
        return next((each for each in self.fields if each.kind in ("date", "moment")), None)

    # --- when

    def why_closed(self, now: datetime, count: int) -> str:
        """Why nothing can be sent now, for people; empty where it can. ``count`` entries have been taken."""
        today = now.astimezone(self.zone).date()
        if self.opens is not None and today < self.opens:
            return f"{self.words.closed} It opens on {show_value(self.opens)}."
        if self.closes is not None and today > self.closes:
            return self.words.closed
        if self.limit is not None and count >= self.limit:
            return f"{self.words.closed} All {self.limit} places are taken."
        return ""

    def may_change(self, values: Mapping[str, Any], now: datetime) -> bool:
        """Whether an entry may still be changed or withdrawn by its sender."""
        until = self.change_until
        if until is None:
            return True
        if until.day is not None:
            return now.astimezone(self.zone).date() <= until.day
        value = values.get(until.field)
        if value is None or until.before is None:
            return True
        return now < add_to_moment(_begin_of(value, self.zone), -until.before)


def _begin_of(value: Any, zone: ZoneInfo) -> datetime:
    return value.astimezone(zone) if isinstance(value, datetime) else first_moment(value, zone)
