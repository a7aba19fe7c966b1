"""Links to join an event from afar: made before their event, kept on a change, ended with it; nothing half made."""

from __future__ import annotations

import subprocess
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import httpx
import pytest

from tests.conftest import EXAMPLES, WHENVOCA, Desk
from tests.drive.test_watch import until
from tests.servers import free_port

SETTINGS = """
[workspace]
name = "Larkmoor"
root = "5b0c6a54-6f0e-4f0b-9a43-2f6a3f0c1d7e"
zone = "Atlantic/Azores"
organizer = "desk@example.org"
meeting-link = {links}
[people.ines]
mail = "ines@example.org"
[people.tomas]
mail = "tomas@example.org"
[people.rui]
mail = "rui@example.org"
[people.ana]
mail = "ana@example.org"
[places.talks]
kind = "sheet"
file = "talks.csv"
key = "Talk no"
[places.outreach]
kind = "calendar"
folder = "outreach"
[places.staff]
kind = "calendar"
folder = "staff"
[places.log]
kind = "sheet"
file = "log.csv"
create = true
[places.mail-out]
kind = "outbox"
folder = "mail-out"
from = "desk@example.org"
"""
HEAD = "Answer,Link,Talk no,Title,Date,Begin,Online\n"
ROW = ",,T-3,Tides,2027-04-02,18:00,yes\n"
MIRROR = """
when talks gains, changes or loses a row

mirror event in outreach
  title         Title
  start         Date at Begin
  meeting-link  yes
"""


class Service:
    """The stand-in, in a process of its own."""

    def __init__(self, desk: Desk) -> None:
        self.port = free_port()
        self.url = f"http://127.0.0.1:{self.port}"
        self._file = desk.folder.parent / "meetings.json"
        self.start()

    def start(self) -> None:
        listen = f"127.0.0.1:{self.port}"
        command = [WHENVOCA, "stand-in", "meeting-links", "--listen", listen, "--file", str(self._file)]
        self._process = subprocess.Popen(command, stderr=subprocess.DEVNULL)
        until(self._answers)

    def _answers(self) -> bool:
        try:
            return httpx.get(f"{self.url}/meetings/none").status_code == 404
        except httpx.TransportError:
            return False

    def knows(self, link: str) -> bool:
        return httpx.get(link).status_code == 200

    def count(self) -> int:
        return self._file.read_text().count('"link"') if self._file.exists() else 0

    def stop(self) -> None:
        self._process.terminate()
        self._process.wait()


@pytest.fixture
def service(desk: Desk) -> Iterator[Service]:
    found = Service(desk)
    yield found
    found.stop()


@pytest.fixture
def hall(desk: Desk, service: Service) -> Desk:
    desk.settings(SETTINGS.format(links=f'{{ service = "{service.url}" }}'))
    desk.rows(ROW.strip(), name="talks.csv", head=HEAD)
    return desk


def unfolded(path: Path) -> str:
    return path.read_text().replace("\n ", "")


def example(desk: Desk, name: str) -> Desk:
    return desk.workflow((EXAMPLES / f"workflows/{name}.voca").read_text(), name)


def cells(desk: Desk) -> list[str]:
    return desk.read("talks.csv").splitlines()[1].split(",")


def events(desk: Desk, calendar: str = "outreach") -> list[dict[str, Any]]:
    found: list[dict[str, Any]] = desk.run(
        "agenda", calendar, "--from", "2027-03-01", "--until", "2027-07-01", "--json"
    ).json["events"]
    return found


def test_a_link_for_a_talk_and_no_event_left(hall: Desk, service: Service) -> None:
    example(hall, "talk-link")
    rehearsed = hall.run("rehearse", "--json").json["runs"][0]
    assert [each["verb"] for each in rehearsed["effects"]] == [
        "create meeting-link",
        "create event",
        "change row",
        "delete event",
    ]
    assert service.count() == 0
    for _ in range(2):
        assert hall.run("run").code == 0
        answer, link = cells(hall)[:2]
        assert answer == "granted"
        assert service.knows(link)
        assert events(hall) == []
        assert service.count() == 1
    assert hall.run("undo", "1", "--yes").code == 0
    assert service.count() == 0
    assert cells(hall)[:2] == ["", ""]
    assert events(hall) == []


def test_a_service_that_is_away_leaves_nothing_half_made(hall: Desk, service: Service) -> None:
    hall.workflow((EXAMPLES / "workflows/talk-link.voca").read_text().replace("tries  5", "tries  1"), "talk-link")
    service.stop()
    assert hall.run("run", "--now", "2027-03-29 09:00").code == 3  # it waits for the service
    assert cells(hall)[:2] == ["", ""]
    assert hall.run("run", "--now", "2027-03-30 10:00").code == 3  # for a day
    assert cells(hall)[0].startswith("not granted: ")
    assert events(hall) == []
    assert len(hall.run("runs", "--json").json["runs"]) == 1
    service.start()
    assert service.count() == 0


def test_a_calendar_that_refuses_the_event_ends_its_link(hall: Desk, service: Service) -> None:
    hall.workflow(
        "when talks gains a row\n\ncreate event in outreach\n"
        "  title  Title\n  start  Date at Begin\n  meeting-link  yes\n"
    )
    (hall.folder / "outreach").write_text("in the way")
    for _ in range(6):
        hall.run("run")
    (hall.folder / "outreach").unlink()
    runs = hall.run("runs", "--json").json["runs"]
    if runs and runs[0]["outcome"] == "failed":
        assert service.count() == 0
    else:
        hall.run("run")
        assert service.count() == len(events(hall)) == 1


def test_a_briefing_with_all_it_takes(hall: Desk, service: Service) -> None:
    example(hall, "weekly-briefing")
    done = hall.run("run", "weekly-briefing", "--give", "opening=2027-03-24", "--now", "2027-03-17 09:00")
    assert done.code == 0, done.err
    found = events(hall, "staff")
    assert len(found) == 6
    assert [each["start"][:16] for each in found][::5] == ["2027-03-24T10:20", "2027-06-02T10:20"]
    assert found[0]["optional"] == ["rui@example.org"]
    [ics] = [unfolded(path) for path in (hall.folder / "staff").glob("*.ics")]
    [line] = [line for line in ics.splitlines() if line.startswith("CONFERENCE")]
    assert line.startswith("CONFERENCE;VALUE=URI;FEATURE=VIDEO:")
    link = line.partition("VIDEO:")[2]
    assert service.knows(link)
    assert f"Please be on time.\\n\\nTo join: {link}" in ics
    texts = [path.read_text() for path in (hall.folder / "mail-out").glob("*.eml")]
    [mail] = [text for text in texts if "Subject: Invitation" not in text]
    assert link in mail.replace("=\n", "").replace("=\r\n", "")
    [invitation] = [text for text in texts if "Subject: Invitation" in text]
    assert "To: ines@example.org, tomas@example.org, rui@example.org" in invitation
    assert link in hall.read("log.csv")


def test_a_clash_makes_no_link(hall: Desk, service: Service) -> None:
    example(hall, "weekly-briefing")
    hall.workflow(
        'when asked\n\ncreate event in staff\n  title  "Inspection"\n  start  2027-04-07 at 10:00\n', "inspection"
    )
    assert hall.run("run", "inspection").code == 0
    refused = hall.run("run", "weekly-briefing", "--give", "opening=2027-03-24", "--now", "2027-03-17 09:00")
    assert refused.code == 1
    assert "takes that time" in refused.out + refused.err
    assert service.count() == 0


def test_a_link_stays_on_a_change_and_ends_with_its_event(hall: Desk, service: Service) -> None:
    hall.workflow(MIRROR)
    hall.run("run")
    [ics] = (hall.folder / "outreach").glob("*.ics")
    [link] = [line[35:] for line in unfolded(ics).splitlines() if line.startswith("CONFERENCE")]
    assert service.knows(link)
    hall.rows(",,T-3,Tides and swell,2027-04-02,19:00,yes", name="talks.csv", head=HEAD)
    changed = hall.run("run", "--json").json["runs"][0]
    assert changed["outcome"] == "done"
    assert sorted(changed["effects"][0]["after"]) == ["end", "start", "title", "whole_day"]
    assert link in unfolded(ics)
    assert hall.run("run").code == 0
    hall.rows(",,T-4,Comets,2027-04-09,19:00,no", name="talks.csv", head=HEAD)
    assert hall.run("run", "--yes").code == 0
    assert not service.knows(link)
    assert service.count() == 1
    undone = hall.run("undo", "--workflow", "slots", "--yes")
    assert undone.code == 0, undone.err
    assert service.count() == 0


def test_change_event_gives_a_link_and_takes_it(hall: Desk, service: Service) -> None:
    hall.workflow(
        "when talks gains, changes or loses a row\n\nmirror event in outreach\n  title    Title\n  start    Date at "
        'Begin\n  details  "Bring a coat."\n',
        "mirror",
    )
    hall.run("run")
    change = 'when asked\n\nchange event in outreach\n  where  title is "Tides"\n  meeting-link  {}\n'
    hall.workflow(change.format("yes"), "give").workflow(change.format("no"), "take")
    assert hall.run("run", "give").code == 0
    [event] = events(hall)
    assert event["details"].startswith("Bring a coat.\n\nTo join: http")
    assert service.count() == 1
    assert hall.run("run", "take").code == 0
    assert events(hall)[0]["details"] == "Bring a coat."
    assert service.count() == 0


def test_a_pattern_makes_links_that_nobody_can_guess(desk: Desk) -> None:
    desk.settings(SETTINGS.format(links='{ pattern = "https://hall.example.org/{secret}" }'))
    desk.rows(ROW.strip(), ",,T-4,Comets,2027-04-09,19:00,yes", name="talks.csv", head=HEAD)
    example(desk, "talk-link")
    assert desk.run("run").code == 0
    links = [line.split(",")[1] for line in desk.read("talks.csv").splitlines()[1:]]
    assert len(set(links)) == 2
    assert all(link.startswith("https://hall.example.org/") and len(link) > 45 for link in links)


@pytest.mark.parametrize(
    ("links", "said"),
    [
        ('"https://hall.example.org"', "neither a pattern nor a service"),
        ('{ pattern = "https://hall.example.org/" }', "the pattern needs {secret}"),
        ('{ pattern = "hall/{secret}" }', "is not a web address"),
        ('{ service = "http://127.0.0.1:1", pattern = "https://x.example.org/{secret}" }', "neither"),
        ('{ service = "http://127.0.0.1:1", key = "x" }', 'has no "key"'),
        ('{ pattern = "https://x.example.org/{secret}", password = { env = "X" } }', "of a service"),
    ],
)
def test_settings_that_cannot_be_meant(desk: Desk, links: str, said: str) -> None:
    desk.settings(SETTINGS.format(links=links))
    result = desk.run("check")
    assert result.code == 2
    assert said in result.err
