"""When one is on the way to an event, and back from it: for one event, or for a whole series with what moved in it."""

from __future__ import annotations

import re
from collections.abc import Iterable
from datetime import UTC, datetime, timedelta
from typing import Any

from msgspec.structs import replace

from whenvoca.calendars.event import Event
from whenvoca.calendars.series import moved_rule

OUTWARD, HOMEWARD = "way out", "way back"
_UNTIL = re.compile(r"\bUNTIL=(\d{8}T\d{6})Z", re.IGNORECASE)


def way(event: Event, which: str, length: timedelta, others: Iterable[Event] = ()) -> dict[str, Any]:
    """The times of the way out of an event, or back, as fields of ``Event``; ``others`` are changed occurrences of its
    series: what moved is left out of the rule and stands for itself. Raises RowFault where the rule cannot be moved."""
    start, end = _ends(event, which, length)
    if not event.is_series or event.occurrence is not None:
        return {"start": start, "end": end}
    shift = start.astimezone(UTC) - _instant(event.start)
    excluded = [_shifted(each, shift) for each in event.excluded]
    added = [_shifted(each, shift) for each in event.added]
    for each in others:
        if each.occurrence is not None and (each.cancelled or each.start != each.occurrence or _differs(each, event)):
            excluded.append(_shifted(each.occurrence, shift))
            if not each.cancelled and isinstance(each.start, datetime):
                added.append(_ends(each, which, length)[0])
    return {
        "start": start,
        "end": end,
        "rule": _rule(event, start, shift),
        "excluded": tuple(excluded),
        "added": tuple(added),
        "periods": tuple((_shifted(begin, shift), _shifted(begin, shift) + length) for begin, _ in event.periods),
    }


def _differs(occurrence: Event, series: Event) -> bool:
    return _instant(occurrence.end) - _instant(occurrence.start) != _instant(series.end) - _instant(series.start)


def _ends(event: Event, which: str, length: timedelta) -> tuple[datetime, datetime]:
    start, end = event.start, event.end
    assert isinstance(start, datetime)
    assert isinstance(end, datetime)
    if which == OUTWARD:
        return _shifted(start, -length), start
    return end, _shifted(end, length)


def _rule(event: Event, start: datetime, shift: timedelta) -> str:
    """The rule of the way: its weekdays turn where it begins on another day, and it goes on as long as the event's."""
    assert isinstance(event.start, datetime)
    own = start.astimezone(event.start.tzinfo)
    rule = (
        moved_rule(event.rule, (own.date() - event.start.date()).days)
        if own.date() != event.start.date()
        else event.rule
    )
    if found := _UNTIL.search(rule):
        until = datetime.fromisoformat(f"{found[1]}Z") + shift
        rule = f"{rule[: found.start()]}UNTIL={until:%Y%m%dT%H%M%S}Z{rule[found.end() :]}"
    return rule


def _shifted(moment: Any, by: timedelta) -> Any:
    """A moment so much later by the clock that runs through; a day stays."""
    if not isinstance(moment, datetime):
        return moment
    return (moment.astimezone(UTC) + by).astimezone(moment.tzinfo)


def _instant(moment: Any) -> datetime:
    found: datetime = moment
    return found.astimezone(UTC)


def with_way(travel: Event, times: dict[str, Any]) -> Event:
    """The travel event at those times."""
    plain = {"rule": "", "excluded": (), "added": (), "periods": ()}
    return replace(travel, **{**plain, **times})
