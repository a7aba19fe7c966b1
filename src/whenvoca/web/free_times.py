"""The free times that a form offers, as its calendars have them at the moment."""

from __future__ import annotations

import contextlib
import threading
import time
from collections.abc import Callable, Collection, Mapping
from datetime import datetime, timedelta
from typing import Any

from starlette.concurrency import run_in_threadpool

from whenvoca.calendars.free_time import Span, busy_spans, free_starts, joined
from whenvoca.engine.ledger.protocol import Ledger
from whenvoca.errors import WhenvocaError
from whenvoca.places.form.free import FreeTimes
from whenvoca.places.form.place import Form
from whenvoca.values.durations import add_to_moment
from whenvoca.web.outcomes import story_of

Offered = Mapping[str, tuple[datetime, ...]]  # the times by the words of the fields that offer them; empty: not known
_KEPT = 10.0  # seconds for which a page is shown the times of a look before
_MOST = 500  # times of a field
_LOOKED_BACK = 200  # entries
_FRESH = timedelta(minutes=2)
NOT_KNOWN = "Whether this time is free cannot be looked up just now. Please try again later."
NO_LONGER_FREE = "This time is no longer free. Please choose another one."


def faults_of_times(form: Form, values: Mapping[str, Any], offered: Offered) -> dict[str, str]:
    """What is wrong with the times that somebody chose, by the fields' words."""
    chosen = [each for each in form.fields if each.free is not None and each.name in values]
    if not offered:
        return dict.fromkeys((each.word for each in chosen), NOT_KNOWN)
    return {each.word: NO_LONGER_FREE for each in chosen if values[each.name] not in offered[each.word]}


def faults_of_held(
    ledger: Ledger, form: Form, values: Mapping[str, Any], subject: str, now: datetime
) -> dict[str, str]:
    """The same for times that other entries hold, which workflows have not worked on yet, or just now: their events
    were not there when the calendars were looked at. ``subject``: the entry itself, where it has come in before."""
    chosen = [each for each in form.fields if each.free is not None and each.name in values]
    if not chosen:
        return {}
    found: dict[str, str] = {}
    for arrival in ledger.arrivals(form.name, ledger.last_arrival(form.name) - _LOOKED_BACK):
        if arrival.state is None or arrival.subject == subject:
            continue
        for each in chosen:
            assert each.free is not None
            held = arrival.state.get(each.name)
            if isinstance(held, datetime) and abs(held - values[each.name]) < each.free.length:
                story = story_of(ledger, form.name, arrival.subject)
                if story is None or story.is_refused or story.is_withdrawn or story.values.get(each.name) != held:
                    continue
                is_fresh = now - datetime.fromisoformat(arrival.at) < _FRESH  # its event may be newer than our look
                if story.state == "waiting" or is_fresh:
                    found[each.word] = NO_LONGER_FREE
    return found


class FreeTimesOfForm:
    """The free times of one form's fields. ``open_places`` opens places for this alone: they are read in threads of
    their own."""

    def __init__(self, form: Form, open_places: Callable[[], Any]) -> None:
        self._form, self._open_places = form, open_places
        self._fields = {each.word: each.free for each in form.fields if each.free is not None}
        self._lock = threading.Lock()
        self._read: tuple[float, Offered] = (0.0, {})

    async def offered(self, now: datetime, *, fresh: bool = False, without: Collection[str] = ()) -> Offered:
        """The times that can be had. ``fresh``: as they are at this moment; ``without``: UIDs of events that do not
        count, since they are the sender's own. Empty while a calendar cannot be read."""
        if not self._fields:
            return {}
        since, known = self._read
        if not fresh and not without and time.monotonic() - since < _KEPT:
            return known
        try:
            found = await run_in_threadpool(self._look, now, without)
        except WhenvocaError:  # watch itself tells of it
            return {}
        if not without:
            self._read = (time.monotonic(), found)
        return found

    def _look(self, now: datetime, without: Collection[str]) -> Offered:
        with self._lock, contextlib.closing(self._open_places()) as places:
            return {word: tuple(self._times(each, places, now, without)) for word, each in self._fields.items()}

    def _times(self, free: FreeTimes, places: Any, now: datetime, without: Collection[str]) -> list[datetime]:
        zone, notice = self._form.zone, self._form.notice
        low = now if notice is None else add_to_moment(now.astimezone(zone), notice)
        high = now + free.ahead
        busy: list[Span] = []
        for name in free.calendars:
            calendar = places.open_named(name)
            events = calendar.find_between(low - timedelta(days=1), high)
            holds = 1 if free.people else calendar.clash_rule.holds
            busy += busy_spans([each for each in events if each.uid not in without], calendar.zone, free.people, holds)
        starts = free_starts(free.window, low, high, zone, joined(busy), free.length, free.every)
        return [each.astimezone(zone) for each, _ in zip(starts, range(_MOST), strict=False)]
