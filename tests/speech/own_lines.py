"""This project's own older lines as a world of requests: they train, and are never graded with the others."""

from __future__ import annotations

import re
from datetime import datetime
from typing import Any

from tests.speech import corpus
from tests.speech.worlds import World
from whenvoca.speech.request import Surroundings

_WISH = re.compile(
    r"(?P<title>.*?) (?P<start>[\d-]+(?:T\d\d:\d\d)?)\.\.(?P<end>[\dT:-]+)(?: in (?P<place>.*?))?"
    r"(?: with (?P<who>\S+))?"
    r"(?: (?P<rule>FREQ\S+))?(?: reminder (?P<reminder>\d+))?$"
)


class OwnWorld(World):
    """The agenda of the corpus."""

    def __init__(self) -> None:
        self.name, self.now, self.zone = "own", "2027-03-17T10:00", corpus.AZORES
        self.owner = {"name": "Vera", "email": "vera@example.org"}
        self.people = {each: f"{each}@example.org" for each in corpus.PEOPLE}
        self.names = {(each.event.uid, None): each.event.uid for each in corpus.AGENDA}
        self.events = {}
        self.targets = list(corpus.AGENDA)
        for each in corpus.AGENDA:
            event = each.event
            start, end = (
                m.isoformat()[:16] if isinstance(m, datetime) else m.isoformat() for m in (event.start, event.end)
            )
            self.events[event.uid] = {"uid": event.uid, "start": start, "end": end, "series": None}

    @property
    def around(self) -> Surroundings:
        """What a text is read among."""
        return Surroundings(corpus.NOW, corpus.AZORES, corpus.AGENDA, corpus.PEOPLE, "day first")


def own_lines() -> list[dict[str, Any]]:
    """The lines that it is developed on, as far as they ask for something by themselves."""
    found = []
    for case in corpus.load()[0]:
        gold = None if case.last else _gold(case.expected)
        if gold is not None:
            found.append({"id": f"own{case.number}", "text": case.text, "gold": gold, "voice": "own"})
    return found


def _gold(expected: str) -> dict[str, Any] | None:
    head, _, rest = expected.partition(" ")
    match head:
        case "create":
            wishes = [_wish(each) for each in rest.split(" ; ")]
            return {"intent": "create", "fields": wishes[0] if len(wishes) == 1 else wishes} if all(wishes) else None
        case "delete":
            return {"intent": "delete", "fields": _targets(rest)} if rest else None
        case "change":
            return _change(rest)
        case "query":
            return {"intent": "query", "fields": {"kind": "list", "uids": [each for each in rest.split(",") if each]}}
        case "free":
            return {"intent": "free", "fields": {"free": rest == "yes", "busy_uids": None}}
    return {"intent": "none", "fields": {}} if head == "none" else None


def _targets(said: str) -> dict[str, Any]:
    scope = next((each for each in ("all", "following") if said.startswith(f"{each} ")), None)
    uids = said.removeprefix(f"{scope} ").split(",")
    return {"scope": scope, "targets": [each.split("@")[0] for each in uids]}


def _change(said: str) -> dict[str, Any] | None:
    match = re.match(r"(?P<targets>(?:(?:all|following) )?\S+) (?P<changes>.*)$", said)
    if match is None:
        return None
    changes: dict[str, Any] = {}
    for name, value in re.findall(r"(\w+)=(.*?)(?= \w+=|$)", match["changes"]):
        if name in ("start", "end"):
            changes[name] = _moment(value)
        elif name in ("title", "location"):
            changes[name] = [value]
        elif name == "reminder":
            changes["reminder_minutes"] = int(value)
        elif name in ("attendees", "without"):
            changes["add_attendees" if name == "attendees" else "remove_attendees"] = _mails(value)
        else:
            return None
    return {"intent": "update", "fields": {**_targets(match["targets"]), "changes": changes}} if changes else None


def _mails(said: str | None) -> list[str]:
    return [each if "@" in each else f"{each}@example.org" for each in (said or "").split(",") if each]


def _moment(said: str, day: str = "") -> str:
    if ":" in said and "T" not in said:
        return f"{day}T{said}"
    date, _, clock = said.partition("T")
    if len(date) != 10:
        date = f"2027-{date}" if "-" in date else f"2027-03-{int(date):02d}"
    return f"{date}T{clock}" if clock else date


def _wish(said: str) -> dict[str, Any] | None:
    match = _WISH.match(said.strip())
    if match is None:
        return None
    start = _moment(match["start"])
    rule = match["rule"]
    if rule:
        rule = re.sub(
            r"UNTIL=(\d{8})(?:T\d+)?Z?", lambda m: f"UNTIL={m[1]}" + ("T235959" if len(start) > 10 else ""), rule
        )
    return {
        "title": [match["title"]],
        "start": start,
        "end": _moment(match["end"], start[:10]),
        "all_day": len(start) == 10,
        "location": [match["place"]] if match["place"] else None,
        "attendees": _mails(match["who"]),
        "recurrence": rule,
        "reminder_minutes": int(match["reminder"]) if match["reminder"] else None,
    }
