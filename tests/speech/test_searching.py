"""Requests to look for free time, and what is free for those who are named."""

from __future__ import annotations

from datetime import datetime, timedelta
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.conftest import SETTINGS, Desk
from whenvoca.calendars.event import Attendee, Event
from whenvoca.calendars.writer import write_calendar
from whenvoca.speech.reply import reply_to
from whenvoca.speech.request import Surroundings, Target
from whenvoca.speech.understanding import understand

ZONE = ZoneInfo("Atlantic/Azores")
NOW = datetime(2027, 3, 17, 10, 7, tzinfo=ZONE)
MAILS = {name: f"{name}@example.org" for name in ("ines", "tomas", "rui")}


def event(title: str, begin: str, end: str, *people: str, answer: str = "") -> Event:
    start, stop = (datetime.fromisoformat(f"2027-03-{each}").replace(tzinfo=ZONE) for each in (begin, end))
    attendees = tuple(Attendee(MAILS[each], answer=answer) for each in people)
    return Event(uid=title, title=title, start=start, end=stop, attendees=attendees)


AGENDA = [
    event("Teaching", "22T08:30", "22T16:30", "ines"),
    event("Call", "23T08:30", "23T12:00", "tomas"),
    event("Council", "24T08:30", "24T17:00"),
    event("Tour", "25T09:00", "25T17:30", "rui"),
    event("Lunch", "26T12:00", "26T13:00", "ines", answer="DECLINED"),
]


def ask(text: str, speaker: str = "tomas") -> str:
    around = Surroundings(
        NOW,
        ZONE,
        [Target("staff", each) for each in AGENDA],
        sorted(MAILS),
        addresses=MAILS,
        speaker=MAILS.get(speaker, ""),
    )
    return reply_to(understand(text, around), ZONE)


TEXTS = [
    (
        "find an hour with Ines next week",
        "Free: Mon 22 Mar 16:30–17:30; Tue 23 Mar 12:00–17:30; Thu 25 Mar 08:30–17:30; Fri 26 Mar 08:30–17:30",
    ),
    ("find an hour for Ines on monday", "Free: Mon 22 Mar 16:30–17:30"),
    ("find 90 minutes with ines on monday", "Nothing is free then."),
    ("please find two hours with rui and ines on thursday 25 march", "Nothing is free then."),
    ("when can rui and I meet on the 25th?", "Nothing is free then."),
    ("when is ines free on tuesday", "Free: Tue 23 Mar 08:30–17:30"),
    ("could you look for a slot with ines tomorrow afternoon", "Free: Thu 18 Mar 12:00–18:00"),
    ("suggest a time after 3pm with ines on tuesday", "Free: Tue 23 Mar 15:00–17:30"),
    (
        "find half an hour between 2 and 5 with rui on monday or thursday",
        "Free: Thu 18 Mar 14:00–17:00; Mon 22 Mar 14:00–17:00",
    ),
    ("is there an hour with ines today?", "Free: Wed 17 Mar 10:15–17:30"),
    ("find a free hour on saturday", "Free: Sat 20 Mar 08:30–17:30"),
    ("find three hours with ines on friday night", "Free: Fri 19 Mar 18:00–04:00"),
]


@pytest.mark.parametrize(("text", "told"), TEXTS)
def test_what_is_free_for_those_who_are_named(text: str, told: str) -> None:
    assert ask(text) == told


@pytest.mark.parametrize(
    "text",
    ["find the council", "when do we have the call", "find time to clean the lens friday 2pm", "when is the tour"],
)
def test_other_requests_are_no_search(text: str) -> None:
    assert not ask(text).startswith(("Free:", "Nothing is free"))


@given(st.integers(15, 240), st.sampled_from(["tomorrow", "next week", "on friday", "before monday", ""]))
def test_what_is_told_is_free_and_long_enough(minutes: int, when: str) -> None:
    around = Surroundings(NOW, ZONE, [Target("staff", each) for each in AGENDA], sorted(MAILS), addresses=MAILS)
    request = understand(f"find {minutes} minutes with ines {when}", around)
    assert request.intent == "free"
    hers = [each for each in AGENDA if each.title in ("Teaching", "Council")]
    for begin, end in request.slots:
        assert begin >= NOW
        assert end - begin >= timedelta(minutes=minutes)
        assert not any(each.start < end and begin < each.end for each in hers)


def test_what_people_publish_elsewhere_counts_in_a_conversation(desk: Desk) -> None:
    settings = SETTINGS.replace("[people.tomas]\n", '[people.tomas]\nfree-busy = "tomas.ifb"\n')
    desk.settings(settings, '[places.staff]\nkind = "calendar"\nfolder = "staff"\n')
    desk.write("staff/c.ics", write_calendar(AGENDA[1], NOW))
    desk.write(
        "tomas.ifb",
        "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nBEGIN:VFREEBUSY\r\nDTSTART:20270301T000000Z\r\nDTEND:20270324T000000Z\r\n"
        "FREEBUSY:20270323T150000Z/PT1H\r\nEND:VFREEBUSY\r\nEND:VCALENDAR\r\n",
    )
    said = ("--now", "2027-03-17 10:00")
    found = desk.run("say", "find an hour with tomas on tuesday", *said)
    assert "Tue 23 Mar 12:00–14:00; Tue 23 Mar 15:00–17:30" in found.out
    assert "Nothing is free then." in desk.run("say", "find an hour with tomas on wednesday 24 march", *said).out
    desk.write("tomas.ifb", "none")
    assert desk.run("say", "find an hour with tomas on tuesday", *said).code == 3
