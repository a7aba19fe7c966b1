"""A form that offers free times: what is taken is not offered, and nobody gets what somebody else has chosen."""

from __future__ import annotations

import re
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, date, datetime

import httpx
import pytest

from tests.conftest import SETTINGS, Desk
from tests.servers import free_port
from tests.web.conftest import Site, text_of

FORM = """
[web]
listen = "127.0.0.1:{port}"
[places.outreach]
kind = "calendar"
folder = "outreach"
[places.hours]
kind = "form"
path = "/hours"
notice = "2 hours"
fields = [
  {{ name = "Name", required = true }},
  {{ name = "Time", kind = "moment", required = true, free = {{ calendars = ["outreach"], {free} }} }},
]
"""
BOOK = """
when hours gains, changes or loses an entry

mirror event in outreach
  title   "Talk with {Name}"
  start   Time
  length  1 hour
"""
EVERY_DAY = 'length = "1 hour", days = "every day", between = "09:00-12:00", ahead = "3 days"'


@pytest.fixture
def hours(desk: Desk) -> Callable[..., Site]:
    def make(free: str = EVERY_DAY, workflow: str = BOOK) -> Site:
        port = free_port()
        desk.settings(SETTINGS, FORM.format(port=port, free=free))
        desk.workflow(workflow, "book")
        return Site(desk, port).watch()

    return make


def offered(page: str) -> list[str]:
    return re.findall(r'<option value="([^"]+)"', page)


def put_event(desk: Desk, start: str, name: str = "busy", **lines: str) -> None:
    begin = datetime.fromisoformat(start).astimezone(UTC)
    more = "".join(f"{key}:{value}\r\n" for key, value in lines.items())
    text = (
        "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//test//EN\r\nBEGIN:VEVENT\r\n"
        f"UID:{name}\r\nDTSTAMP:20260101T000000Z\r\nDTSTART:{begin:%Y%m%dT%H%M%SZ}\r\nDURATION:PT1H\r\nSUMMARY:x\r\n"
        f"{more}END:VEVENT\r\nEND:VCALENDAR\r\n"
    )
    (desk.folder / "outreach").mkdir(exist_ok=True)
    (desk.folder / "outreach" / f"{name}.ics").write_text(text, newline="")


def send(here: Site, moment: str, page: str, **more: str) -> httpx.Response:
    return here.client.post("/hours", data={"page": page, "Name": "Joana", "Time": moment, **more})


def test_what_is_taken_is_not_offered_and_is_checked_again(hours: Callable[..., Site]) -> None:
    here = hours()
    try:
        first, second, *_ = times = offered(here.client.get("/hours").text)
        assert 6 <= len(times) <= 9
        assert all(9 <= datetime.fromisoformat(each).hour < 12 for each in times)
        taken = send(here, first, "one")
        assert taken.status_code == 303, text_of(taken.text)
        assert send(here, first, "one").headers["location"] == taken.headers["location"]  # the same page again
        late = send(here, first, "two")  # a page that was shown before
        assert late.status_code == 422
        assert "This time is no longer free" in text_of(late.text)
        assert 'value="Joana"' in late.text
        put_event(here.desk, second)
        assert "no longer free" in text_of(send(here, second, "three").text)
        for odd in ("9:00", "2027-01-01T09:00", "0001-01-01T00:00+14:00", f"{date.today()}T03:00+00:00"):
            assert send(here, odd, f"odd {odd}").status_code == 422
        change = taken.headers["location"] + "/change"
        page = here.client.get(change).text
        assert f'value="{first}" selected' in page  # one's own time is no hindrance to oneself
        assert here.client.post(change, data={"page": "four", "Name": "Rui", "Time": first}).status_code == 303
        listed = here.desk.run("agenda", "outreach", "--from", str(date.today()), "--json").json["events"]
        assert sorted(each["title"] for each in listed) == ["Talk with Rui", "x"]
    finally:
        here.close()


def test_of_many_who_choose_one_time_one_gets_it(hours: Callable[..., Site]) -> None:
    here = hours(workflow=BOOK.replace("gains, changes or loses", "receives").replace("mirror", "create"))
    try:
        chosen = offered(here.client.get("/hours").text)[3]
        with ThreadPoolExecutor(8) as pool:
            answers = list(pool.map(lambda number: send(here, chosen, f"page {number}").status_code, range(8)))
        assert sorted(answers) == [303] + [422] * 7
    finally:
        here.close()


def test_with_people_what_does_not_concern_them_is_no_hindrance(hours: Callable[..., Site]) -> None:
    here = hours(free=EVERY_DAY + ', people = ["ines"]')
    try:
        first, second, *_ = offered(here.client.get("/hours").text)
        put_event(here.desk, first, "rui", ATTENDEE="mailto:rui@example.org")
        put_event(here.desk, second, "ines", ATTENDEE="mailto:ines@example.org")
        assert send(here, first, "one").status_code == 303
        assert send(here, second, "two").status_code == 422
    finally:
        here.close()


def test_a_calendar_that_cannot_be_read_keeps_what_was_typed(hours: Callable[..., Site]) -> None:
    here = hours()
    try:
        first = offered(here.client.get("/hours").text)[0]
        (here.desk.folder / "outreach").mkdir(exist_ok=True)
        (here.desk.folder / "outreach" / "broken.ics").write_text("BEGIN:VCALENDAR\r\nnonsense")
        answer = send(here, first, "one")
        assert answer.status_code in (303, 422)
        if answer.status_code == 422:
            assert "cannot be looked up just now" in text_of(answer.text)
            assert f'value="{first}" selected' in answer.text
    finally:
        here.close()


@pytest.mark.parametrize(
    ("free", "said"),
    [
        ('length = "an age"', 'length = "an age" is not a duration'),
        ('length = "1 month"', 'length = "1 month" is not a duration'),
        ('between = "25:00-26:00"', 'between = "25:00-26:00" is not understood'),
        ('between = "09:00-09:00"', "is not understood"),
        ('days = "the 3rd"', "other days than weekdays"),
        ('days = "someday"', '"someday" is no day'),
        ('ahead = "800 days"', "a year at most"),
        ('every = "1 minute"', "five minutes at least"),
        ('people = ["nobody"]', 'there is nobody "nobody"'),
        ('rooms = "all"', 'free has no setting "rooms"'),
    ],
)
def test_settings_that_cannot_be_meant(desk: Desk, free: str, said: str) -> None:
    desk.settings(SETTINGS, FORM.format(port=1234, free=free))
    desk.workflow(BOOK, "book")
    result = desk.run("check")
    assert result.code == 2 or result.code == 1
    assert said in result.out + result.err
