"""`tasks`: what is open, the most urgent first; and `next:`, which fits what was done."""

from __future__ import annotations

import pytest

from tests.conftest import REQUESTS, SETTINGS, Desk

CHORES = '[places.chores]\nkind = "tasks"\nfolder = "chores"\n'
HEAD = "BEGIN:VCALENDAR\nVERSION:2.0\nPRODID:x\n"


def task(uid: str, *lines: str) -> str:
    return "\n".join(["BEGIN:VTODO", f"UID:{uid}", "DTSTAMP:20270101T000000Z", f"SUMMARY:{uid}", *lines, "END:VTODO\n"])


@pytest.fixture
def chores(desk: Desk) -> Desk:
    desk.settings(SETTINGS, REQUESTS, CHORES)
    tasks = [
        task("late", "DUE:20270316T100000Z", "CATEGORIES:packing"),
        task("soon", "DUE;VALUE=DATE:20270318", 'ATTENDEE;X-WHENVOCA-PERSON="tomas":mailto:tomas@example.org'),
        task("done", "DUE:20270301T100000Z", "STATUS:COMPLETED", "COMPLETED:20270302T100000Z"),
        task("ever"),
    ]
    desk.write("chores/all.ics", HEAD + "".join(tasks) + "END:VCALENDAR\n")
    desk.write("chores/bad.ics", "no calendar")
    return desk


def test_open_tasks_are_listed_by_urgency_and_the_unread_piece_is_named(chores: Desk) -> None:
    told = chores.run("tasks", "--now", "2027-03-17 10:00")
    assert [word for word in told.out.split() if word in ("late", "soon", "ever", "done")] == ["late", "soon", "ever"]
    assert "3 open tasks, 1 overdue" in told.err
    assert "not shown: chores/bad.ics" in told.err
    assert told.code == 2


@pytest.mark.parametrize(
    ("options", "uids"),
    [
        (["--all"], ["done", "late", "soon", "ever"]),
        (["--section", "Packing"], ["late"]),
        (["--person", "tomas"], ["soon"]),
        (["--person", "tomas@example.org"], ["soon"]),
        (["--person", "ines"], []),
        (["chores"], ["late", "soon", "ever"]),
    ],
)
def test_tasks_are_chosen(chores: Desk, options: list[str], uids: list[str]) -> None:
    (chores.folder / "chores/bad.ics").unlink()
    told = chores.run("tasks", *options, "--json").json
    assert [each["uid"] for each in told["tasks"]] == uids
    assert told["unread"] == []


def test_unknown_lists_are_refused_with_the_nearest(chores: Desk) -> None:
    assert "did you mean chores?" in chores.run("tasks", "chorez").err
    assert chores.settings(SETTINGS).run("tasks").code == 2


NEXT = [
    (
        "create event in domes\n  title  Title\n  start  Day at From\n  end  Day at To\n",
        "next: whenvoca agenda --from 2027-03-17",
    ),
    ("create task in chores\n  title  Title\n", "next: whenvoca tasks"),
    ("add row to log\n  What  Title\n", ""),
]


@pytest.mark.parametrize(("step", "following"), NEXT)
def test_next_fits_what_was_done(chores: Desk, step: str, following: str) -> None:
    chores.workflow("when requests gains a row\n\n" + step).rows(",,R-1,M 42,17.03.2027,20:00,22:00")
    lines = [line for line in chores.run("run").err.splitlines() if line.startswith("next")]
    assert lines == ([following] if following else [])


def test_places_counts_events_and_not_files(desk: Desk) -> None:
    event = "BEGIN:VEVENT\nUID:{}\nDTSTAMP:20270101T000000Z\nDTSTART:20270317T1{}0000Z\nEND:VEVENT\n"
    desk.settings(SETTINGS, REQUESTS).rows()
    desk.write("domes/five.ics", HEAD + "".join(event.format(n, n) for n in range(5)) + "END:VCALENDAR\n")
    assert "5 events" in desk.run("places").out
