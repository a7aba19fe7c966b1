"""A workspace with a form and a hook, served by a real `watch`, and a client that knows nothing of it."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from typing import Any

import httpx
import pytest

from tests.conftest import SETTINGS, Desk
from tests.drive.test_watch import Watching, until
from tests.servers import free_port

PLACES = """
[web]
listen = "127.0.0.1:{port}"
{web}
[places.lending]
kind = "form"
path = "/lending"
title = "Borrow the small telescope"
thanks = "The small telescope is yours for these days."
{form}
fields = [
  {{ name = "Name", required = true }},
  {{ name = "Address", kind = "address", required = true, label = "Your e-mail address" }},
  {{ name = "Out", kind = "date", required = true, help = "The day you fetch it" }},
  {{ name = "Back", kind = "date", required = true }},
  {{ name = "Purpose", kind = "choice", choices = ["at home", "at school"], from-link = "for" }},
]
[places.bookings]
kind = "hook"
{hook}
fields = {{ School = "school", Day = "date", Time = "time", Pupils = "pupils" }}
kinds = {{ Day = "date", Time = "time", Pupils = "number" }}
[places.loans]
kind = "calendar"
folder = "loans"
[places.outreach]
kind = "calendar"
folder = "outreach"
[places.loan-book]
kind = "sheet"
file = "loan-book.csv"
create = true
"""
LEND = """
when lending receives an entry

create event in loans as loan
  title  "Small telescope: {Name}"
  start  Out
  end    Back
  clash  refuse
if it fails
  fail "It cannot go out then: {reason}"

add row to loan-book
  Name  Name
  Out   Out
"""
FOLLOW = """
when lending gains, changes or loses an entry

mirror event in loans
  title  "Small telescope: {Name}"
  start  Out
  end    Back
  clash  refuse
"""
VISITS = """
when bookings gains, changes or loses a call

mirror event in outreach
  title   "{School} ({Pupils} pupils)"
  start   Day at Time
  length  2 hours
"""
ABOUT = 'once = "id"\nabout = "number"\ngone = \'status is "cancelled"\'\nnewer = "version"\neach = "bookings"'
JOANA = {"Name": "Joana", "Address": "joana@example.org", "Out": "2027-04-02", "Back": "2027-04-05"}


class Site:
    """The workspace, and what a browser or another system sees of it."""

    def __init__(self, desk: Desk, port: int) -> None:
        self.desk, self.url = desk, f"http://127.0.0.1:{port}"
        self.client = httpx.Client(base_url=self.url, timeout=20)
        self.watching: Watching | None = None
        self._pages = 0

    def watch(self) -> Site:
        """Begins to watch, and waits until it answers."""
        self.watching = Watching(self.desk).ready()
        until(self._answers)
        return self

    def _answers(self) -> bool:
        try:
            self.client.get("/style.css")
        except httpx.TransportError:
            return False
        return True

    def send(self, path: str = "/lending", **fields: Any) -> httpx.Response:
        """Sends the form; each time from a page of its own, unless it is named."""
        self._pages += 1
        return self.client.post(path, data={"page": f"page {self._pages}", **JOANA, **fields})

    def look(self, answer: httpx.Response) -> str:
        """The text of the page that an answer leads to."""
        assert answer.status_code == 303, answer.text
        return text_of(self.client.get(answer.headers["location"]).text)

    @property
    def hook(self) -> str:
        """The path of the hook."""
        [place] = [each for each in self.desk.run("places", "--json").json["places"] if each["name"] == "bookings"]
        return str(place["address"]).removeprefix(self.url)

    def call(self, data: Any, wait: bool = True, **headers: str) -> httpx.Response:
        """Calls the hook."""
        prefer = {"prefer": "wait=8"} if wait else {}
        return self.client.post(self.hook, json=data, headers={**prefer, **headers})

    def events(self, calendar: str = "loans") -> list[str]:
        """What stands in a calendar: title, first and last day or moment."""
        found = self.desk.run("agenda", calendar, "--from", "2027-04-01", "--until", "2027-06-01", "--json").json
        return sorted(f"{each['title']} {each['start'][:16]} {each['end'][:16]}" for each in found["events"])

    def close(self) -> None:
        """Stops it."""
        self.client.close()
        if self.watching is not None:
            self.watching.kill()


def text_of(page: str) -> str:
    """The words of a page."""
    return " ".join(re.sub(r"<[^>]+>", " ", page.partition("<main")[2].partition(">")[2]).split())


@pytest.fixture
def site(desk: Desk) -> Iterator[Callable[..., Site]]:
    """Makes a site from workflows by name and settings of its form, hook and door."""
    made: list[Site] = []

    def make(*, form: str = "", hook: str = ABOUT, web: str = "", **workflows: str) -> Site:
        port = free_port()
        desk.settings(SETTINGS, PLACES.format(port=port, form=form, hook=hook, web=web))
        for name, text in workflows.items():
            desk.workflow(text, name)
        made.append(Site(desk, port))
        return made[-1]

    yield make
    for each in made:
        each.close()
