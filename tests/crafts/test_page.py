"""The examples of docs/calendars.md, in the demo workspace: checked, and rehearsed."""

from __future__ import annotations

import re
from pathlib import Path

import pytest

from tests.conftest import Desk

PAGE = Path(__file__).parents[2] / "docs/calendars.md"
ABOUT = {
    "asked about an event of domes": "clock-night@example.org",
    "asked about an event of outreach": "sea-school@example.org",
}
EXAMPLES = re.findall(r"```\n(.*?)```", PAGE.read_text(encoding="utf-8"), re.DOTALL)


@pytest.mark.parametrize("number", range(len(EXAMPLES)))
def test_the_page_shows_what_works(desk: Desk, number: int) -> None:
    assert desk.run_anywhere("demo", str(desk.folder / "demo"), "--keep-still").code == 0
    (desk.folder / "demo/workflows/example.voca").write_text(EXAMPLES[number], encoding="utf-8")
    where = ("--workspace", str(desk.folder / "demo"))
    checked = desk.run_anywhere("check", "example", *where)
    assert checked.code == 0, checked
    about = next((("--event", uid) for said, uid in ABOUT.items() if said in EXAMPLES[number]), ())
    rehearsed = desk.run_anywhere("rehearse", "example", *about, "--now", "2027-03-14 10:00", *where)
    assert rehearsed.code == 0, rehearsed
