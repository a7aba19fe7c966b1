"""The corpus of requests: its agenda, its lines, and whether a reading is the one expected.

developed.txt is what the reader is developed on; measured.txt is only measured. ``python -m tests.speech.corpus`` tells
how many lines of each are read as expected, and how many are wrongly acted on.
"""

from __future__ import annotations

import sys
from dataclasses import dataclass
from datetime import date, datetime, timedelta
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

from whenvoca.calendars.event import Attendee, Event
from whenvoca.speech.request import Request, Surroundings, Target, Wish
from whenvoca.speech.understanding import understand

AZORES = ZoneInfo("Atlantic/Azores")
NOW = datetime(2027, 3, 17, 10, 0, tzinfo=AZORES)  # a Wednesday
FOLDER = Path(__file__).parent
PEOPLE = ("ines", "tomas", "rui", "ana")
ACTING = ("create", "change", "delete")


def _event(uid: str, title: str, start: str, minutes: int = 60, *, people: str = "", **more: str) -> Target:
    begin = datetime.fromisoformat(f"2027-{start}").replace(tzinfo=AZORES)
    attendees = tuple(Attendee(f"{name}@example.org") for name in people.split())
    event = Event(
        uid=uid, title=title, start=begin, end=begin + timedelta(minutes=minutes), attendees=attendees, **more
    )  # type: ignore[arg-type]
    return Target("domes", event)


AGENDA = [
    _event("W", "Mirror wash", "03-18T10:40", 45, rule="FREQ=WEEKLY;BYDAY=TH"),
    _event("C", "Council call", "03-19T10:00"),
    _event("M", "M 42 with wide camera", "03-17T21:30", 270),
    _event("P", "Planetarium evening", "03-17T19:00", 90, location="Hall"),
    _event("D", "Council dinner", "03-25T19:00"),
    _event("L", "Lens test", "03-25T14:00", location="Hall"),
    _event("U", "Lunch with Paulo", "03-18T13:00"),
    _event("S", "Staff meeting", "03-22T09:00", rule="FREQ=WEEKLY;BYDAY=MO"),
    _event("A", "Sea School visit", "03-23T10:00", 120, location="Hall", people="tomas"),
    _event("B", "Hill School visit", "03-30T10:00", 120),
    Target(
        "domes",
        Event(
            uid="V",
            title="Ana on leave",
            start=date(2027, 3, 29),
            end=date(2027, 4, 1),
            attendees=(Attendee("ana@example.org"),),
        ),
    ),
    _event("T", "Telescope loan", "03-26T16:00", 30, people="rui"),
    _event("E", "Dentist", "04-05T15:00", 45),
    _event("Q", "Camera swap", "03-20T11:00", 90),
    _event("O", "Public evening", "03-26T20:00", 150),
    _event("G", "Budget talk", "03-24T15:00", people="rui"),
]


@dataclass(frozen=True, slots=True)
class Case:
    """One line: the text, what was spoken of last, and the reading expected."""

    number: int
    text: str
    last: str
    expected: str


def load() -> tuple[list[Case], list[Case]]:
    """What the reader is developed on, and what is only measured."""
    return _lines("developed.txt"), _lines("measured.txt")


def _lines(name: str) -> list[Case]:
    found = []
    for number, line in enumerate((FOLDER / name).read_text(encoding="utf-8").splitlines(), 1):
        if not line or line.startswith("#"):
            continue
        text, _, expected = line.rpartition(" -> ")
        last = text[1] if text.startswith("~") else ""
        found.append(Case(number, text[3:] if last else text, last, expected))
    return found


def read(case: Case) -> Request:
    """The reading of a case."""
    last = [each for each in AGENDA if each.event.uid == case.last]
    return understand(case.text, Surroundings(NOW, AZORES, AGENDA, PEOPLE, "day first", last=last))


def _day(moment: date) -> str:
    return f"{moment.day}" if moment.month == NOW.month else f"{moment:%m-%d}"


def _moment(moment: datetime | date | None) -> str:
    if moment is None:
        return "?"
    return f"{_day(moment)}T{moment:%H:%M}" if isinstance(moment, datetime) else _day(moment)


def _wish(wish: Wish) -> str:
    start, end = _moment(wish.start), _moment(wish.end)
    if "T" in start and start.split("T")[0] == end.split("T")[0]:
        end = end.split("T")[1]
    parts = [wish.title, f"{start}..{end}"]
    parts += [f"in {wish.location}"] if wish.location else []
    parts += [f"with {','.join(wish.attendees)}"] if wish.attendees else []
    parts += [wish.repeat] if wish.repeat else []
    parts += [f"reminder {wish.reminder}"] if wish.reminder is not None else []
    return " ".join(parts)


def _uids(request: Request) -> str:
    return ",".join(each.event.uid for each in request.targets)


def _shown(value: Any) -> Any:
    return _moment(value) if isinstance(value, date) else ",".join(value) if isinstance(value, list) else value


def told(request: Request) -> str:
    """A reading as the corpus writes it."""
    scope = "" if request.scope == "this" else f"{request.scope} "
    match request.intent:
        case "create":
            return "create " + " ; ".join(_wish(each) for each in request.events)
        case "change":
            changes = [f"{name}={_shown(value)}" for name, value in request.changes.items()]
            return f"change {scope}{_uids(request)} {' '.join(changes)}"
        case "delete":
            return f"delete {scope}{_uids(request)}"
        case "query":
            return f"query {_uids(request)}".strip()
        case "free":
            return f"free {'yes' if request.free else 'no'}"
        case "ask":
            return f"ask {','.join(sorted(request.missing, reverse=True))}"
    return request.intent


def is_right(case: Case, request: Request) -> bool:
    """Whether the reading is the one expected; of a question what is missing, where the line says it."""
    got, wanted = told(request).lower(), case.expected.lower().replace("@29", "")
    if wanted == "ask":
        return got.startswith("ask")
    return got == wanted


def is_wrongly_acted_on(case: Case, request: Request) -> bool:
    """Whether something would be done that was not asked for; a question is never wrong in that."""
    return request.intent in ACTING and not is_right(case, request)


def main() -> None:
    """Tells the figures; with an argument the lines of the first half that are not read as expected."""
    for name, half in zip(("developed on", "only measured"), load(), strict=True):
        readings = [(case, read(case)) for case in half]
        right = sum(is_right(*each) for each in readings)
        acted = sum(is_wrongly_acted_on(*each) for each in readings)
        print(
            f"{name}: {right} of {len(half)} right ({100 * right / len(half):.1f} %), {acted} wrongly acted on "
            f"({100 * acted / len(half):.1f} %)"
        )
        if len(sys.argv) > 1 and name == "developed on":
            for case, request in readings:
                if not is_right(case, request):
                    mark = "!" if is_wrongly_acted_on(case, request) else " "
                    print(
                        f"{mark} {case.number:3} {case.text}\n      wanted {case.expected}\n      got    "
                        f"{told(request)}"
                    )


if __name__ == "__main__":
    main()
