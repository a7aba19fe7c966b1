"""The contract of lists of tasks, on a folder and on a real CalDAV server, through the program."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator
from datetime import UTC, date, datetime
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.conftest import REQUESTS, SETTINGS, Desk
from tests.servers import Radicale, running_radicale
from whenvoca.calendars.patch import change_event
from whenvoca.calendars.reader import read_events
from whenvoca.calendars.state import from_state, to_state
from whenvoca.calendars.task import Task
from whenvoca.calendars.writer import write_calendar
from whenvoca.values.durations import Duration

AZORES = ZoneInfo("Atlantic/Azores")
STAMP = datetime(2027, 1, 1, tzinfo=UTC)
FOLDER = '[places.chores]\nkind = "tasks"\nfolder = "chores"\n'
SERVER = (
    '[places.chores]\nkind = "tasks"\nserver = "{url}"\ncalendar = "{name}"\nuser = "alice"\npassword = {{ env = '
    '"DAV" }}\nseconds = 5\n'
)
MIRROR = (
    "when requests gains, changes or loses a row\n\nmirror task in chores as chore\n  title    Title\n  due      Day "
    "at From\n"
    '  section  "packing"\n  person   "tomas"\n'
)
R1, R2 = ",,R-1,M 42,17.03.2027,21:30,", ",,R-2,M 13,18.03.2027,20:00,"


@pytest.fixture(scope="module")
def radicale(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Radicale]:
    os.environ["DAV"] = "alicepw"
    with running_radicale(tmp_path_factory.mktemp("radicale")) as server:
        yield server


Tasks = Callable[[], dict[str, Task]]


@pytest.fixture(params=["folder", "server"])
def tasks(request: pytest.FixtureRequest, desk: Desk) -> Tasks:
    if request.param == "folder":
        desk.settings(SETTINGS, REQUESTS, FOLDER)

        def files() -> list[bytes]:
            return [path.read_bytes() for path in desk.events("chores")]
    else:
        radicale = request.getfixturevalue("radicale")
        name = f"chores{abs(hash(request.node.name))}"
        radicale.make(name, name, component="VTODO")
        desk.settings(SETTINGS, REQUESTS, SERVER.format(url=radicale.url, name=name))

        def files() -> list[bytes]:
            return list(radicale.events(name).values())

    def found() -> dict[str, Task]:
        read = [task for data in files() for task in read_events(data, AZORES, noun="task")]
        return {task.title: task for task in read}  # type: ignore[misc]

    return found


def test_mirrored_tasks_come_change_and_go(desk: Desk, tasks: Tasks) -> None:
    desk.rows(R1, R2).parent.joinpath("workflows/slots.voca").write_text(MIRROR)
    assert desk.run("run").code == 0
    first = tasks()
    assert {title: (task.section, task.person) for title, task in first.items()} == {
        "M 42": ("packing", "tomas"),
        "M 13": ("packing", "tomas"),
    }
    assert {task.person_mail for task in first.values()} == {"tomas@example.org"}
    assert first["M 42"].end == datetime(2027, 3, 17, 21, 30, tzinfo=AZORES)
    assert desk.run("run").err.startswith("nothing new")
    desk.rows(R1.replace("21:30", "22:15"))
    assert desk.run("run").code == 0
    second = tasks()
    assert list(second) == ["M 42"]
    assert (second["M 42"].uid, second["M 42"].end) == (first["M 42"].uid, datetime(2027, 3, 17, 22, 15, tzinfo=AZORES))


@pytest.mark.parametrize(
    ("person", "line"),
    [
        ("ines", 'ATTENDEE;CN="ines";X-WHENVOCA-PERSON="ines":mailto:ines@example.org'),
        ("a@exämple.org", "ATTENDEE:mailto:a@xn--exmple-cua.org"),
        ("rui", "ATTENDEE:urn:whenvoca:person:rui"),
    ],
    ids=["of the people", "an address", "without an address"],
)
def test_person_of_a_task_is_written_by_their_address(desk: Desk, person: str, line: str) -> None:
    desk.settings(SETTINGS, REQUESTS, FOLDER, '[people.rui]\nchat = "rui"\n').rows(R1)
    desk.workflow(MIRROR.replace("tomas", person))
    assert desk.run("run").code == 0
    (path,) = desk.events("chores")
    assert line in path.read_text(encoding="utf-8").replace("\r\n ", "").splitlines()
    assert desk.run("run").err.startswith("nothing new")
    (task,) = read_events(path.read_bytes(), AZORES, noun="task")
    assert task.person == person.replace("exämple", "xn--exmple-cua")  # type: ignore[attr-defined]


def test_lost_ledger_makes_no_task_twice(desk: Desk, tasks: Tasks) -> None:
    desk.rows(R1, R2).parent.joinpath("workflows/slots.voca").write_text(MIRROR)
    desk.run("run")
    for path in (desk.folder / ".whenvoca").glob("ledger*"):
        path.unlink()
    desk.run("run")
    assert len(tasks()) == 2


def test_finished_task_sets_off_a_workflow_once(desk: Desk, tasks: Tasks) -> None:
    desk.rows(R1).parent.joinpath("workflows/slots.voca").write_text(MIRROR)
    desk.workflow(
        'when chores finishes a task\n  where  section is "packing"\n\nadd row to log\n  What  task.title\n  Who  '
        "task.person\n",
        "done",
    )
    desk.workflow('when asked\n\nfinish task in chores\n  where  title is "M 42"\n', "tick")
    assert desk.run("run").code == 0
    for _ in range(2):
        assert desk.run("run", "tick").code == 0
        desk.run("run")
    assert desk.read("log.csv").splitlines() == ["What,Who", "M 42,tomas"]
    assert tasks()["M 42"].finished is not None
    assert "1 task" in desk.run("places").out


# --- what is written is read back


MOMENTS = st.datetimes(datetime(2026, 1, 1), datetime(2030, 1, 1)).map(
    lambda wall: wall.replace(microsecond=0, tzinfo=UTC)
)
TEXTS = st.text(st.characters(exclude_categories=["Cs", "Cc"]), max_size=30).map(str.strip)


@given(
    st.builds(
        Task,
        uid=st.just("u"),
        title=TEXTS,
        start=st.none() | MOMENTS,
        end=st.none() | MOMENTS,
        section=TEXTS,
        person=st.sampled_from(["", "tomas", "ana maría", "ana@example.org"]),
        details=TEXTS,
        priority=st.integers(0, 9),
        finished=st.none() | MOMENTS,
        source=TEXTS,
        alarms=st.lists(st.integers(-9, 9).map(lambda n: Duration(seconds=n * 600)), max_size=2, unique=True).map(
            tuple
        ),
    )
)
def test_task_written_is_read_back_equal(task: Task) -> None:
    (read,) = read_events(write_calendar(task, STAMP), UTC_ZONE, noun="task")
    assert read.content() == task.content()
    assert from_state(to_state(task)) == task


UTC_ZONE = ZoneInfo("UTC")
FOREIGN = b"""BEGIN:VCALENDAR\r
VERSION:2.0\r
PRODID:-//x//EN\r
BEGIN:VTODO\r
UID:x\r
DTSTAMP:20270101T000000Z\r
SUMMARY:Pack\r
DTSTART;VALUE=DATE:20270317\r
DURATION:P2D\r
STATUS:IN-PROCESS\r
X-OTHER;X-P=1:kept\\, as it is\r
BEGIN:VALARM\r
ACTION:DISPLAY\r
DESCRIPTION:x\r
TRIGGER:-PT1H\r
END:VALARM\r
END:VTODO\r
END:VCALENDAR\r
"""


def test_what_another_program_keeps_in_a_task_survives_a_change() -> None:
    from msgspec.structs import replace

    (task,) = read_events(FOREIGN, AZORES, noun="task")
    assert (task.start, task.end) == (date(2027, 3, 17), date(2027, 3, 19))
    changed = change_event(FOREIGN, task, replace(task, title="Pack all"), STAMP, AZORES)
    assert b"X-OTHER;X-P=1:kept\\, as it is" in changed
    assert b"SUMMARY:Pack all" in changed
    assert b"STATUS:IN-PROCESS" in changed
    assert changed.count(b"BEGIN:VALARM") == 1
    (again,) = read_events(changed, AZORES, noun="task")
    assert (again.title, again.start, again.end) == ("Pack all", task.start, task.end)
