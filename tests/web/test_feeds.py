"""A calendar to look at: whole and read-only, at a link that nobody can guess, without what is private."""

from __future__ import annotations

from collections.abc import Callable
from datetime import UTC, datetime
from zoneinfo import ZoneInfo

from tests.web.conftest import LEND, Site
from whenvoca.calendars.reader import read_events

AZORES = ZoneInfo("Atlantic/Azores")
HEAD = "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//Larkmoor//EN\r\n"
EVENT = (
    "BEGIN:VEVENT\r\nUID:{uid}\r\nDTSTAMP:20270101T000000Z\r\nDTSTART:20270402T200000Z\r\nDTEND:20270402T210000Z\r\n"
    "SUMMARY:{title}\r\nLOCATION:Ridge\r\nDESCRIPTION:who "
    "comes\r\nATTENDEE:mailto:ines@example.org\r\n{more}END:VEVENT\r\n"
)


def put(site: Site, uid: str, title: str, more: str = "") -> None:
    folder = site.desk.folder / "loans"
    folder.mkdir(exist_ok=True)
    text = HEAD + EVENT.format(uid=uid, title=title, more=more) + "END:VCALENDAR\r\n"
    (folder / f"{uid}.ics").write_bytes(text.encode())


def test_a_calendar_can_be_looked_at(site: Callable[..., Site]) -> None:
    here = site(lend=LEND)
    path = here.desk.folder / "whenvoca.toml"
    path.write_text(path.read_text().replace('folder = "loans"\n', 'folder = "loans"\nfeed = "/loans.ics"\n'))
    put(here, "a", "Moon night")
    put(here, "b", "Visit to the doctor", "CLASS:PRIVATE\r\n")
    put(here, "c", "Weekly", "RRULE:FREQ=WEEKLY;COUNT=3\r\n")
    here.watch()
    [loans] = [each for each in here.desk.run("places", "--json").json["places"] if each["name"] == "loans"]
    link = loans["feed"].removeprefix(here.url)
    answer = here.client.get(link)
    assert answer.headers["content-type"] == "text/calendar; charset=utf-8"
    events = read_events(answer.content, AZORES)
    assert sorted(each.title for each in events) == ["Moon night", "Weekly", "private"]
    assert {each.rule for each in events} == {"", "FREQ=WEEKLY;COUNT=3"}
    assert all(each.start == datetime(2027, 4, 2, 20, tzinfo=UTC) for each in events)
    for word in ("doctor", "ines@example.org", "mailto"):
        assert word not in answer.text
    again = here.client.get(link, headers={"if-none-match": answer.headers["etag"]})
    assert (again.status_code, again.content) == (304, b"")
    assert here.client.put(link).status_code == 405
    assert here.client.get(link.replace("/feeds/", "/feeds/a")).status_code == 404
    assert here.client.get(link.replace("loans.ics", "outreach.ics")).status_code == 404
    assert link in here.desk.run("places").err


def test_a_link_that_is_none_is_refused(site: Callable[..., Site]) -> None:
    here = site(lend=LEND)
    path = here.desk.folder / "whenvoca.toml"
    path.write_text(path.read_text().replace('folder = "loans"\n', 'folder = "loans"\nfeed = "../loans"\n'))
    assert "cannot be the end of a link" in f"{here.desk.run('check')}"
