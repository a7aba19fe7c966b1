"""The worlds of requests by independent writers: their agendas, their lines, and whether a reading is a right one.

The rules are those of ``worlds/CONVENTIONS.md``; nothing here knows how the reader works.
"""

from __future__ import annotations

import json
import re
import unicodedata
from collections import defaultdict
from collections.abc import Iterable, Mapping
from datetime import UTC, date, datetime, timedelta
from functools import lru_cache
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

from dateutil.rrule import rrulestr

from whenvoca.calendars.event import Attendee, Event
from whenvoca.engine.conversing.memory import contacts_of
from whenvoca.speech.request import Surroundings, Target

FOLDER = Path(__file__).parent / "worlds"
WORLDS = "ACDEGJKMNPQR"
HARD, ORDINARY = "ACDEGJKMQ", "NPR"


class World:
    """The agenda of one writer, and what a text is read among."""

    def __init__(self, name: str) -> None:
        agenda = json.loads((FOLDER / name / "agenda.json").read_text(encoding="utf-8"))
        meta = agenda.get("meta", agenda)
        self.name, self.now, self.zone = name, meta["now"], ZoneInfo(meta["zone"])
        self.owner = meta["owner"]
        self.people = {each["name"].casefold(): each["email"] for each in agenda["people"]}
        self.events = {each["uid"]: each for each in agenda["events"]}
        self.names: dict[tuple[str, str | None], str] = {}
        self.targets: list[Target] = []
        series = defaultdict(list)
        for each in agenda["events"]:
            if each.get("series"):
                series[each["series"]["series_uid"]].append(each)
                self.names[each["series"]["series_uid"], each["series"]["instance"][:16]] = each["uid"]
            else:
                self.names[each["uid"], None] = each["uid"]
                self._add(self._event(each, each["uid"]))
        for uid, found in series.items():
            self._add_series(uid, found)

    def _add(self, event: Event) -> None:
        self.targets.append(Target("own", event))

    def _moment(self, text: str) -> datetime | date:
        return datetime.fromisoformat(text).replace(tzinfo=self.zone) if "T" in text else date.fromisoformat(text)

    def _event(self, each: Mapping[str, Any], uid: str, **more: Any) -> Event:
        people = tuple(Attendee(address) for address in each.get("attendees") or [])
        start, end = self._moment(each["start"]), self._moment(each["end"])
        return Event(
            uid=uid,
            title=each["title"],
            start=start,
            end=end,
            location=each.get("location") or "",
            attendees=people,
            **more,
        )

    def _add_series(self, uid: str, found: list[dict[str, Any]]) -> None:
        rule, begin = found[0]["series"]["rrule"], found[0]["series"]["series_start"]
        usual = next((e for e in found if e["start"][:16] == e["series"]["instance"][:16]), found[0])
        length = datetime.fromisoformat(usual["end"]) - datetime.fromisoformat(usual["start"])
        end = (datetime.fromisoformat(begin) + length).isoformat(timespec="minutes")
        master = {**usual, "start": begin, "end": end if "T" in begin else end[:10]}
        self._add(self._event(master, uid, rule=rule))
        for each in found:
            same = all(each.get(key) == usual.get(key) for key in ("title", "location", "attendees"))
            instance = each["series"]["instance"]
            if not same or each["start"][:16] != instance[:16] or each["end"][11:] != usual["end"][11:]:
                self._add(self._event(each, uid, occurrence=self._moment(instance)))

    @property
    def around(self) -> Surroundings:
        """What a text of this world is read among."""
        people = sorted({*self.people, self.owner["name"].casefold()})
        order = "" if self.zone.key.startswith("America/") else "day first"
        now = datetime.fromisoformat(self.now).replace(tzinfo=self.zone)
        return Surroundings(now, self.zone, self.targets, people, order, 60, contacts=contacts_of(self.targets))

    def lines(self, kind: str = "commands") -> list[dict[str, Any]]:
        """The requests of the world."""
        path = FOLDER / self.name / f"{kind}.json"
        found: list[dict[str, Any]] = json.loads(path.read_text(encoding="utf-8"))["items"] if path.exists() else []
        return found

    # --- comparing

    def local(self, value: Any) -> str | None:
        """A moment as local ISO to the minute; dates stay."""
        if value is None:
            return None
        text = str(value)
        if len(text) > 10 and re.search(r"(Z|[+-]\d\d:\d\d)$", text):
            return datetime.fromisoformat(text).astimezone(self.zone).strftime("%Y-%m-%dT%H:%M")
        return text[:16]

    def rule(self, text: str | None) -> str | None:
        """A rule of repetition with its UNTIL on the local clock."""

        def local(match: re.Match[str]) -> str:
            moment = datetime.strptime(match[1], "%Y%m%dT%H%M%S").replace(tzinfo=UTC)
            return "UNTIL=" + moment.astimezone(self.zone).strftime("%Y%m%dT%H%M%S")

        return re.sub(r"UNTIL=(\d{8}T\d{6})Z", local, text) if text else text

    def name_of(self, target: Mapping[str, Any]) -> str:
        """The world's name of an event or occurrence."""
        uid, occurrence = target["uid"], self.local(target.get("occurrence"))
        return self.names.get((uid, occurrence)) or self.names.get((uid, None)) or f"{uid}@{occurrence}"

    def mail(self, who: Any) -> str:
        """The address of a person."""
        text = str(who).removeprefix("mailto:")
        return {**self.people, self.owner["name"].casefold(): self.owner["email"]}.get(text.casefold(), text)

    def mails(self, found: Iterable[Any] | None) -> set[str]:
        """The addresses of people, without the owner's."""
        return {self.mail(each) for each in found or []} - {self.owner["email"]}

    def series_of(self, name: str) -> str:
        """The series that an occurrence belongs to."""
        base = name.split("@")[0]
        for (uid, _), known in self.names.items():
            if known == name or uid == base:
                return uid
        return base

    def reach(self, got: Mapping[str, Any]) -> set[str] | None:
        """The occurrences that a reading of a series, or of its rest, concerns."""
        if got.get("scope") not in ("all", "following") or not got.get("targets"):
            return None
        target = got["targets"][0]
        series = self.series_of(self.name_of(target))
        since = self.now if got["scope"] == "all" else self.local(target.get("occurrence")) or self.now
        return {
            uid
            for uid, e in self.events.items()
            if (e.get("series") or {}).get("series_uid") == series and e["start"][:16] >= since[:16]
        }


@lru_cache(maxsize=16)
def load_world(name: str) -> World:
    """A world, read once."""
    return World(name)


def plain(value: str | None) -> str:
    """A text as titles and places are compared."""
    text = unicodedata.normalize("NFKC", value or "").casefold().strip(" .,!?:;-–\"'“”‘’()")
    text = text.replace("’", "'").replace("é", "e")
    return re.sub(r"^(the|a|an|my|our) ", "", re.sub(r"\s+", " ", text))


def _one_of(value: str | None, wanted: Any) -> bool:
    return plain(value) in {plain(each) for each in (wanted if isinstance(wanted, list) else [wanted])}


def _starts(rule: str | None, start: str, without: Iterable[Any] | None = ()) -> list[str] | None:
    """The first dates of a rule; ``without`` are the starts or days left out of it."""
    if not rule:
        return None
    try:
        begin = datetime.fromisoformat(start)
        out = {str(each)[:10] for each in without or ()}
        dates = rrulestr(rule.replace("RRULE:", "").replace("Z", ""), dtstart=begin)
        return [
            d
            for _, d in zip(range(10), (d.isoformat() for d in dates if d.date().isoformat() not in out), strict=False)
        ]
    except (ValueError, TypeError) as trouble:
        return [str(trouble)]


def event_fits(world: World, got: Mapping[str, Any], want: Mapping[str, Any]) -> bool:
    """Whether an event of a reading is the one wanted."""
    attendees = world.mails(got.get("attendees"))
    wanted = {world.mail(each) for each in want.get("attendees") or []}
    reminder = next(iter(got.get("reminders") or []), None)
    return (
        _one_of(got.get("title"), want["title"])
        and world.local(got.get("start")) == want["start"][:16]
        and (world.local(got.get("end")) == want["end"][:16] or bool(want.get("end_loose") and got.get("end")))
        and bool(got.get("whole_day")) == bool(want["all_day"])
        and (_one_of(got.get("location"), want["location"]) if want.get("location") else not got.get("location"))
        and (attendees == wanted or bool(want.get("attendees_soft") and attendees <= wanted))
        and _starts(world.rule(got.get("repeat")), want["start"], got.get("except"))
        == _starts(want.get("recurrence"), want["start"], want.get("exdates"))
        and (reminder or 0) == (want.get("reminder_minutes") or 0)
    )


_CHANGED = {
    "title": ("title",), "location": ("location",), "add_attendees": ("attendees",), "remove_attendees": ("without",),
    "recurrence": ("repeat",), "reminder_minutes": ("reminders",),
}  # fmt: skip


def _changes_fit(world: World, got: Mapping[str, Any], want: Mapping[str, Any], base: Mapping[str, Any] | None) -> bool:
    """Whether the changes of a reading are those wanted, and no others; ``base`` is the event as it stands."""
    base = base or {}
    for key, names in _CHANGED.items():
        if key not in want and any(got.get(name) not in (None, [], "") for name in names):
            return False
    if not {"start", "end", "start_time", "end_time", "all_day", "last_day"} & set(want):
        for key in ("start", "end"):
            if got.get(key) and world.local(got[key]) != (base.get(key) or "")[:16]:
                return False
    return all(_change_fits(world, got, want, base, key, value) for key, value in want.items())


def _change_fits(
    world: World, got: Mapping[str, Any], want: Mapping[str, Any], base: Mapping[str, Any], key: str, value: Any
) -> bool:
    match key:
        case "start" | "end":
            if key not in got:
                return bool(base.get(key) and base[key][:16] == value[:16]) or (
                    key == "end" and bool(want.get("start"))
                )
            found = world.local(got[key])
            return found == value[:16] or (len(value) == 10 and found in (value, value + "T00:00"))
        case "start_time" | "end_time":
            return value in json.dumps({k: world.local(v) if isinstance(v, str) else v for k, v in got.items()})
        case "title" | "location":
            return key in got and (_one_of(got[key], value) if value else not got[key])
        case "all_day":
            return (len(str(got.get("start") or "")) == 10) == bool(value)
        case "last_day":
            after = (date.fromisoformat(value[:10]) + timedelta(days=1)).isoformat()
            return (world.local(got.get("end")) or "")[:10] in (after, value[:10])
        case "recurrence":
            begin = base.get("start") or "2027-01-01T09:00"
            return _starts(world.rule(got.get("repeat")), begin) == _starts(value, begin)
        case "reminder_minutes":
            return value in (got.get("reminders") or [])
        case "add_attendees":
            return {world.mail(a) for a in value} <= {world.mail(a) for a in got.get("attendees") or []}
        case "remove_attendees":
            return {world.mail(a) for a in value} <= {world.mail(a) for a in got.get("without") or []}
    return True


def targets_fit(world: World, got: Mapping[str, Any], fields: Mapping[str, Any]) -> bool:
    """Whether a reading is about the events that are meant."""
    scope, targets = fields.get("scope"), {world.name_of(each) for each in got.get("targets") or []}
    if scope not in ("all", "following"):
        return targets == set(fields["targets"])
    reached, wanted = world.reach(got), set(fields["targets"])
    if got.get("scope") != scope and reached != wanted:
        return False
    if (
        scope == "following"
        and reached
        and min(reached, key=lambda u: world.events[u]["start"]) != min(wanted, key=lambda u: world.events[u]["start"])
    ):
        return False
    series = {world.series_of(each) for each in fields["targets"]}
    return not targets or any(world.series_of(each) in series for each in targets)


def reading_fits(world: World, got: Mapping[str, Any], gold: Mapping[str, Any]) -> bool:
    """Whether a reading, as JSON has it, is what the gold says."""
    intent, fields = {"update": "change"}.get(gold["intent"], gold["intent"]), gold.get("fields") or {}
    if got.get("intent") != intent:
        return False
    if intent in ("none", "ask"):
        return True
    if intent == "create":
        wanted, left = (fields if isinstance(fields, list) else [fields]), list(got.get("events") or [])
        if len(wanted) != len(left):
            return False
        for want in wanted:
            hit = next((each for each in left if event_fits(world, each, want)), None)
            if hit is None:
                return False
            left.remove(hit)
        return True
    if intent in ("change", "delete"):
        if not targets_fit(world, got, fields):
            return False
        return intent == "delete" or _change_of_all_fits(world, got, fields)
    targets, answer = {world.name_of(each) for each in got.get("targets") or []}, got.get("answer") or {}
    if intent == "query":
        return targets == set(fields["uids"]) and (
            fields.get("kind") != "count" or answer.get("count") == fields.get("answer")
        )
    busy = fields["busy_uids"] is None or targets == set(fields["busy_uids"])
    return busy and (fields["free"] is None or answer.get("free") == fields["free"])


def _change_of_all_fits(world: World, got: Mapping[str, Any], fields: Mapping[str, Any]) -> bool:
    shared = dict(got.get("changes") or {})
    if fields.get("changes_by_uid"):
        each = {world.name_of(t): {**shared, **(t.get("changes") or {})} for t in got.get("targets") or []}
        return all(
            _changes_fit(world, each.get(uid) or shared, want, world.events.get(uid))
            for uid, want in fields["changes_by_uid"].items()
        )
    own = next(iter(got.get("targets") or []), {}).get("changes") or {}
    base = world.events.get(fields["targets"][0]) if fields.get("targets") else None
    return _changes_fit(world, {**own, **shared}, fields.get("changes") or {}, base)
