"""What is booked twice, as a table or as JSON."""

from __future__ import annotations

from collections.abc import Sequence
from zoneinfo import ZoneInfo

from whenvoca.calendars.clashing import WAYS, Clash, TakenTime, find_clashes
from whenvoca.cli.show.output import Column, say, show_json, show_table
from whenvoca.errors import WhenvocaError
from whenvoca.open_workspace import OpenWorkspace
from whenvoca.reports.week import ShownEvent


def show_clashes(
    opened: OpenWorkspace,
    shown: Sequence[ShownEvent],
    zone: ZoneInfo,
    unread: Sequence[WhenvocaError],
    *,
    as_json: bool,
) -> None:
    """Each pair, once for each way in which it clashes."""
    calendars = {name: opened.places.calendars[name.lower()] for name in {each.calendar for each in shown}}
    zones = {name: each.zone for name, each in calendars.items()}
    rules = {name: each.clash_rule for name, each in calendars.items()}
    found = find_clashes([TakenTime(each.calendar, each.event) for each in shown], zones, WAYS, rules)
    if as_json:
        told = [_to_json(each, zone) for each in found]
        show_json({"zone": zone.key, "clashes": told, "unread": [str(each) for each in unread]})
        return
    if not found:
        say("nothing is booked twice")
        return
    columns = [
        Column("when"),
        Column("by", drop=1),
        Column("what"),
        Column("first", wraps=True),
        Column("second", wraps=True),
    ]
    show_table(columns, [_row(opened, each, zone) for each in found])
    say(f"{len(found)} clash{'es' * (len(found) != 1)}, times in {zone.key}")


def _row(opened: OpenWorkspace, clash: Clash, zone: ZoneInfo) -> tuple[str, ...]:
    start, end = clash.start.astimezone(zone), clash.end.astimezone(zone)
    person = opened.workspace.people.find(clash.what) if clash.way == "person" else None
    what = person.name if person is not None else clash.what
    until = f"{end:%H:%M}" if end.date() == start.date() else f"{end:%a %d %b %H:%M}"
    return f"{start:%a %d %b %Y %H:%M}–{until}", clash.way, what, _title(clash.first), _title(clash.second)


def _title(taken: TakenTime) -> str:
    return f"{taken.event.title} [{taken.calendar}]"


def _to_json(clash: Clash, zone: ZoneInfo) -> dict[str, object]:
    def event(taken: TakenTime) -> dict[str, str]:
        return {"calendar": taken.calendar, "uid": taken.event.uid, "title": taken.event.title}

    return {
        "by": clash.way,
        "what": clash.what,
        "start": clash.start.astimezone(zone).isoformat(),
        "end": clash.end.astimezone(zone).isoformat(),
        "first": event(clash.first),
        "second": event(clash.second),
    }
