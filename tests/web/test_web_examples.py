"""The example workflows of the web do what their first lines say, served by a real `watch`."""

from __future__ import annotations

import csv
import os
import re
import shutil
from collections.abc import Callable, Iterator
from datetime import datetime, timedelta
from email import message_from_bytes, policy
from pathlib import Path

import pytest

from tests.conftest import EXAMPLES, Desk
from tests.servers import free_port
from tests.web.conftest import Site, text_of
from tests.web.test_hooks import signed
from whenvoca.calendars.event import Attendee, Event
from whenvoca.calendars.reader import read_events
from whenvoca.calendars.writer import write_calendar
from whenvoca.values.zones import load_zone

AZORES = load_zone("Atlantic/Azores")
KEY = "a key of the schools"
PLACES = """
[web]
listen = "127.0.0.1:{port}"

[places.lending]
kind   = "form"
path   = "/lending"
change-until = "1 day before Out"
thanks = "The small telescope is yours for these days."
fields = [
  {{ name = "Name",    kind = "text",    required = true }},
  {{ name = "Address", kind = "address", required = true, label = "Your e-mail address" }},
  {{ name = "Out",     kind = "date",    required = true, help = "The day you fetch it" }},
  {{ name = "Back",    kind = "date",    required = true, help = "The day you bring it back" }},
  {{ name = "Purpose", kind = "choice",  choices = ["at home", "at school", "with a club"] }},
]
[places.school-page]
kind      = "hook"
signature = {{ env = "LARKMOOR_HOOK" }}
once      = "message.id"
fields    = {{ Visit = "visit.number", Name = "teacher.name", Address = "teacher.mail" }}
kinds     = {{ Address = "address" }}
[places.school-bookings]
kind      = "hook"
signature = {{ env = "LARKMOOR_HOOK" }}
once      = "message.id"
each      = "bookings"
about     = "number"
gone      = 'status is "cancelled"'
newer     = "version"
fields    = {{ School = "school", Day = "date", Time = "time", Pupils = "pupils", Address = "mail" }}
kinds     = {{ Day = "date", Time = "time", Pupils = "number", Address = "address" }}
[places.loans]
kind   = "calendar"
folder = "calendars/loans"
"""


@pytest.fixture
def larkmoor(desk: Desk) -> Iterator[Callable[..., Site]]:
    made: list[Site] = []

    def make(*workflows: str) -> Site:
        os.environ["LARKMOOR_HOOK"] = KEY
        shutil.copytree(EXAMPLES, desk.folder, dirs_exist_ok=True)
        for path in (desk.folder / "workflows").glob("*.voca"):
            if path.stem not in workflows:
                path.unlink()
        port, settings = free_port(), desk.folder / "whenvoca.toml"
        text = re.sub(r"\[places\.loans\].*?\n(?=\[)", "", settings.read_text(), flags=re.DOTALL)
        settings.write_text(text + PLACES.format(port=port))
        made.append(Site(desk, port))
        return made[-1]

    yield make
    for each in made:
        each.close()


def events_in(site: Site, calendar: str) -> list[Event]:
    paths = site.desk.events(f"calendars/{calendar}")
    found = [event for path in paths for event in read_events(path.read_bytes(), AZORES)]
    return sorted(found, key=lambda each: str(each.start))


def emails_of(here: Site) -> list[Path]:
    return sorted((here.desk.folder / "outbox").glob("*.eml"))


def emails(site: Site) -> list[str]:
    return sorted(
        str(message_from_bytes(path.read_bytes(), policy=policy.default)["to"])
        for path in (site.desk.folder / "outbox").glob("*.eml")
    )


def rows(site: Site, name: str) -> list[list[str]]:
    path = site.desk.folder / name
    return list(csv.reader(path.read_text().splitlines()))[1:] if path.exists() else []


def test_telescope_loans(larkmoor: Callable[..., Site]) -> None:
    here = larkmoor("telescope-loans").watch()
    here.look(here.send(Purpose="at home"))
    here.look(here.send(Name="Paulo", Address="paulo@example.org", Out="2027-04-05", Back="2027-04-06"))
    marta = here.send(Name="Marta", Address="marta@example.org", Out="2027-04-04", Back="2027-04-07")
    assert marta.status_code == 422
    assert "The small telescope cannot go out then: something takes that time" in text_of(marta.text)
    assert [(each.title, f"{each.start:%d %H:%M}", f"{each.end:%d %H:%M}") for each in events_in(here, "loans")] == [
        ("Small telescope: Joana", "02 00:00", "05 00:00"),
        ("Small telescope: Paulo", "05 00:00", "06 00:00"),
    ]
    assert [each[1] for each in rows(here, "loan-book.csv")] == ["Joana", "Paulo"]
    assert {"joana@example.org", "paulo@example.org"} <= set(emails(here))
    assert "marta@example.org" not in emails(here)


def test_loan_follows(larkmoor: Callable[..., Site]) -> None:
    here = larkmoor("loan-follows")
    path = here.desk.folder / "workflows/loan-follows.voca"
    path.write_text("".join(line for line in path.read_text().splitlines(True) if not line.startswith("paused")))
    here.watch()
    answer = here.send()
    here.look(answer)
    own = answer.headers["location"]
    [first] = events_in(here, "loans")
    for page in ("twice", "twice"):
        here.send(f"{own}/change", Back="2027-04-04", page=page)
    [moved] = events_in(here, "loans")
    assert (moved.uid, f"{moved.end:%d}") == (first.uid, "04")
    here.look(here.send(Name="Paulo", Address="paulo@example.org", Out="2027-04-04", Back="2027-04-06"))
    here.client.post(f"{own}/withdraw")
    assert [each.title for each in events_in(here, "loans")] == ["Small telescope: Paulo"]


def test_teachers_join(larkmoor: Callable[..., Site]) -> None:
    here = larkmoor("teachers-join")
    start = datetime(2027, 4, 7, 10, tzinfo=AZORES)
    lesson = Event(
        uid="lesson-11",
        title="Tides",
        start=start,
        end=start + timedelta(hours=1),
        organizer="desk@example.org",
        attendees=(Attendee("ana@example.org"),),
    )
    (here.desk.folder / "calendars/outreach").mkdir(parents=True, exist_ok=True)
    (here.desk.folder / "calendars/outreach/lesson-11.ics").write_bytes(write_calendar(lesson, start))
    headings = "Answer;Booking;Visit no;School;Topic;Visit date;Begin;Finish;Pupils;Venue;Contact\n"
    row = ";lesson-11;V-11;Harbour School;Tides;07.04.2027;10:00;11:00;20;Hall;x\n"
    (here.desk.folder / "school-visits.csv").write_text(headings + row)
    here.watch()
    [place] = [each for each in here.desk.run("places", "--json").json["places"] if each["name"] == "school-page"]

    def post(number: str, visit: str) -> tuple[int, str]:
        import json

        data = {
            "message": {"id": number},
            "visit": {"number": visit},
            "teacher": {"name": "Joana", "mail": "joana@example.org"},
        }
        body = json.dumps(data).encode()
        headers = {**signed(body, KEY.encode()), "prefer": "wait=8"}
        answer = here.client.post(place["address"], content=body, headers=headers)
        return answer.status_code, answer.json().get("reason", "")

    assert post("a", "V-11") == (200, "")
    assert post("a", "V-11") == (200, "")
    assert post("b", "V-77") == (422, "There is no visit V-77")
    [changed] = events_in(here, "outreach")
    assert [each.address for each in changed.attendees] == ["ana@example.org", "joana@example.org"]
    assert [each[1:] for each in rows(here, "teachers.csv")] == [["V-11", "Joana", "joana@example.org"]]
    assert emails(here) == ["joana@example.org"] * 2  # she is invited, and told
    sent = [message_from_bytes(each.read_bytes(), policy=policy.default) for each in emails_of(here)]
    [text] = [each for each in sent if each["Subject"] == "Your visit to Larkmoor"]
    assert [each["Subject"].partition(":")[0] for each in sent if each is not text] == ["Invitation"]
    assert "Wednesday 7 April, 10:00" in str(text.get_body().get_content())  # type: ignore[union-attr]


def test_bookings_follow(larkmoor: Callable[..., Site]) -> None:
    here = larkmoor("bookings-follow").watch()
    [place] = [each for each in here.desk.run("places", "--json").json["places"] if each["name"] == "school-bookings"]

    def post(key: str = KEY, **data: object) -> int:
        import json

        body = json.dumps(data).encode()
        headers = {**signed(body, key.encode()), "prefer": "wait=8"}
        return here.client.post(place["address"], content=body, headers=headers).status_code

    def standing() -> list[str]:
        return [f"{each.title} {each.start:%d %H:%M} {each.end:%H:%M}" for each in events_in(here, "outreach")]

    booking = {"number": "B-7", "school": "Harbour School", "date": "2027-04-13", "time": "09:30", "pupils": 31}
    for _ in range(2):
        assert post(message={"id": "1"}, **booking) == 200
    assert standing() == ["Harbour School (31 pupils) 13 09:30 11:30"]
    assert post(message={"id": "2"}, number="B-7", date="2027-04-14") == 200
    assert standing() == ["Harbour School (31 pupils) 14 09:30 11:30"]
    assert post(message={"id": "3"}, number="B-7", status="cancelled") == 200
    assert standing() == []
    assert post(key="another", message={"id": "4"}, **booking) == 401
    assert standing() == []
    assert post(message={"id": "5"}, bookings=[dict(booking, number=f"B-{n}") for n in (8, 9)]) == 200
    assert len(standing()) == 2
