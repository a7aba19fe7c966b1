"""How runs went: added up by workflow and by day, and told by the command."""

from __future__ import annotations

from datetime import datetime
from zoneinfo import ZoneInfo

from tests.conftest import Desk
from whenvoca.reports.runs import RunEnd, RunFigures, add_up_runs

AZORES = ZoneInfo("Atlantic/Azores")


def test_runs_are_added_up_by_workflow_and_by_the_days_of_a_zone() -> None:
    report = add_up_runs(
        [
            RunEnd("a", "2027-03-17T00:30:00+00:00", "done", 10, is_undone=False),  # still the 16th on the Azores
            RunEnd("b", "2027-03-17T12:00:00+00:00", "failed", 40, is_undone=False),
            RunEnd("b", "2027-03-17T13:00:00+00:00", "done", 20, is_undone=True),
        ],
        AZORES,
    )
    assert report.workflows == [RunFigures("b", 2, 1, 1, 60, 40), RunFigures("a", 1, 0, 0, 10, 10)]
    assert [(each.label, each.runs) for each in report.days] == [("2027-03-16", 1), ("2027-03-17", 2)]
    assert (report.total.runs, report.total.mean, add_up_runs([], AZORES).total.mean) == (3, 23, 0)


def test_the_command_tells_how_runs_went(slots: Desk) -> None:
    asked = ("report", "--runs", "--from", "2027-03-01", "--until", "2027-04-01")
    assert slots.run(*asked).out == "1 March 2027 to 31 March 2027: 0 runs\n"
    slots.rows(",,R-1,M 42,17.03.2027,21:30,02:00", ",,R-2,M 42,31.02.2027,21:30,02:00")
    slots.run("run", "--now", "2027-03-16T09:00")
    (done,) = [each for each in slots.run("runs", "--json").json["runs"] if each["outcome"] == "done"]
    slots.run("undo", str(done["run"]), "--yes", "--now", "2027-03-17T09:00")
    told = slots.run(*asked, "--json").json
    figures = {name: told["total"][name] for name in ("runs", "failed", "undone")}
    assert figures == {"runs": 2, "failed": 1, "undone": 1}
    assert datetime.fromisoformat(told["from"]) == datetime(2027, 3, 1, tzinfo=AZORES)
    assert [(each["workflow"], each["runs"]) for each in told["workflows"]] == [("slots", 2)]
    assert [each["day"] for each in told["days"]] == ["2027-03-16"]
    shown = slots.run(*asked).out
    assert shown.startswith("1 March 2027 to 31 March 2027: 2 runs, 1 failed, 1 taken back\n")
    assert "Tue 16 Mar 2027" in shown
    later = slots.run("report", "--runs", "--from", "2027-04-01", "--until", "2027-05-01", "--json").json
    assert later["total"]["runs"] == 0
