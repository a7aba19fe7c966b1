"""What a run made is known as its own: a second look finds nothing to change, and `undo` takes all of it back.

Every kind of field is a workflow of its own, about one row; they run on each kind of calendar.
"""

from __future__ import annotations

import csv
import io
from collections.abc import Iterator
from pathlib import Path

import pytest

from tests.conftest import REQUESTS, SETTINGS, Desk
from tests.servers import Radicale, running_radicale

KINDS = {
    "whole": "first-day  Day\n  last-day   Day + 2 days",
    "zoned": 'zone   "America/New_York"\n  start  Day at From\n  end    Day at To',
    "weekly": 'start   Day at From\n  end     Day at To\n  repeat  "every week until 2027-12-01"',
    "monthly": 'first-day  Day\n  repeat     "every month, 3 times"',
    "rule": 'start   Day at From\n  repeat  "FREQ=MONTHLY;BYDAY=-1FR;COUNT=4"',
    "flags": 'start     Day at From\n  length    45 minutes\n  busy      "unavailable"\n  private   yes\n  priority  '
    "9\n"
    '  category  "a,b", "c;d", " e "\n  colour    "DarkOliveGreen"',
    "tentative": 'start   Day at From\n  length  45 minutes\n  busy    "tentative"\n  reminder  none',
    "people": 'start          Day at From\n  length         1 day\n  busy           "no"\n  optional       "ines", '
    '"x@example.org"\n'
    '  attendees      "tomas", "Tomas"\n  answer-wanted  yes',
    "invited": 'start      Day at From\n  length     1 day\n  attendees  "tomas", "Zé <ze@example.org>"\n  invite     '
    "yes",
    "utc": "start   When\n  length  1 hour",
    "offset": "start   When\n  length  1 hour",
    "second": "start   When\n  length  30 minutes",
    "into the second": "start   2027-10-30 at 23:30\n  length  90 minutes",
    "over a gap": "start   2027-03-27 at 23:30\n  length  3 hours",
    "now": "start   now + 1 hour\n  length  10 minutes\n  reminder  36 hours before, 1 week before",
    "years": "start   Day at From\n  length  400 days",
}
WHEN = {"utc": "2027-03-28T00:30:00Z", "offset": "2027-03-28T00:30:00+05:30", "second": "2027-10-31T00:30:00-01:00"}
WORKFLOW = """
when requests gains{more} a row
  where  Title is "{kind}"
{where}
{step} event in domes as event
  title  "{kind}"
  {fields}

change row
  Booking  event.uid
"""


@pytest.fixture(scope="module")
def radicale(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Radicale]:
    with running_radicale(tmp_path_factory.mktemp("radicale")) as server:
        yield server


def _workflows(desk: Desk, step: str) -> None:
    more, where = ("", "  where  Booking is empty\n") if step == "create" else (", changes or loses", "")
    for number, (kind, fields) in enumerate(KINDS.items()):
        # A mirror of what is reckoned from now would follow the clock.
        said = fields.replace("now + 1 hour", "2027-05-01 at 20:00") if step == "mirror" else fields
        desk.workflow(WORKFLOW.format(more=more, kind=kind, where=where, step=step, fields=said), f"w{number:02}")


@pytest.mark.parametrize("step", ["create", "mirror"])
@pytest.mark.parametrize("place", ["folder", "file", "server"])
def test_every_field_is_read_back_as_it_was_made(
    desk: Desk, radicale: Radicale, monkeypatch: pytest.MonkeyPatch, place: str, step: str
) -> None:
    monkeypatch.setenv("DAV", "alicepw")
    if place == "server":
        radicale.make(f"own-{step}", f"own-{step}")
    calendar = {
        "folder": 'folder = "domes"',
        "file": 'file = "domes.ics"',
        "server": f'server = "{radicale.url}"\nuser = "alice"\npassword = {{ env = "DAV" }}\ncalendar = "own-{step}"',
    }[place]
    desk.settings(SETTINGS, REQUESTS.replace('folder = "domes"', calendar))
    _workflows(desk, step)
    text = io.StringIO()
    rows = [[f"R-{n}", kind, "26.03.2027", "20:00", "02:00", WHEN.get(kind, "")] for n, kind in enumerate(KINDS)]
    csv.writer(text).writerows([["Booking", "No", "Title", "Day", "From", "To", "When"], *(["", *row] for row in rows)])
    desk.write("requests.csv", text.getvalue())
    ran = desk.run("run")
    assert (ran.code, f"{len(KINDS)} rows done" in ran.err) == (0, True), ran.out + ran.err
    if step == "mirror":
        for number in range(len(KINDS)):
            again = desk.run("rehearse", f"w{number:02}", "--row", str(2 + number), "--json").json
            assert [each["effects"] for each in again["runs"]] == [[]], again
    undone = desk.run("undo", *[str(1 + number) for number in range(len(KINDS))], "--yes")
    assert (undone.code, "left alone" in undone.err) == (0, False), undone.out + undone.err
    assert desk.run("agenda", "--from", "2026-01-01", "--until", "2030-01-01", "--json").json["events"] == []


def test_moments_of_an_hour_that_comes_twice_are_written_as_they_are_meant(desk: Desk, tmp_path: Path) -> None:
    desk.settings(SETTINGS, REQUESTS)
    _workflows(desk, "create")
    desk.write(
        "requests.csv",
        f"Booking,No,Title,Day,From,To,When\n,R-1,second,,,,{WHEN['second']}\n,R-2,into the second,,,,\n",
    )
    assert desk.run("run").code == 0
    lines = {line for path in desk.events() for line in path.read_text().splitlines() if line.startswith("DT")}
    assert {"DTSTART:20271031T013000Z", "DTEND;TZID=Atlantic/Azores:20271031T010000"} <= lines  # the second 00:30
    assert {"DTSTART;TZID=Atlantic/Azores:20271030T233000", "DTEND:20271031T010000Z"} <= lines  # the second 00:00
