"""A workspace that works, with one file among its places that does not."""

from __future__ import annotations

from pathlib import Path

from tests.calendars.foreign import calendar
from tests.hostile_files import GOOD

_SETTINGS = """[workspace]
name = "Larkmoor"
zone = "Atlantic/Azores"
[places.cal]
kind = "calendar"
folder = "cal"
[places.out]
kind = "calendar"
folder = "out"
[places.rows]
kind = "sheet"
file = "rows.csv"
key = "Key"
"""
_SHEET = '[places.bad]\nkind = "sheet"\nfile = "{name}"\nkey = "Key"\n'
_ROWS = (
    "when {sheet} gains a row\n  existing yes\n\ncreate event in out\n  title  {title}\n  start  2027-03-18 at 10:00\n"
)
_FOLLOWING = (
    'when cal gains an event\n  existing yes\n\ncreate event in out\n  title  "after {event.title}"\n  start '
    " event.start\n"
)

_NOW = ("--now", "2027-03-16 10:00")
COMMANDS = (("check",), ("run", *_NOW), ("agenda", "--from", "2027-03-15", "--until", "2027-03-22"), ("places",))


def lay_out(folder: Path, name: str, data: bytes) -> None:
    """Writes the workspace with that file in it."""
    for each in ("cal", "out", "workflows"):
        (folder / each).mkdir()
    settings = _SETTINGS
    if name.endswith(".ics"):
        (folder / "cal" / name).write_bytes(data)
    else:
        (folder / name).write_bytes(data)
        settings += _SHEET.format(name=name)
        (folder / "workflows/bad.voca").write_text(_ROWS.format(sheet="bad", title='"bad"'), encoding="utf-8")
    (folder / "whenvoca.toml").write_text(settings, encoding="utf-8")
    (folder / "rows.csv").write_text("Key,Title,Day\nR-1,Night walk,2027-03-17\n", encoding="utf-8")
    (folder / "cal/good.ics").write_bytes(calendar(GOOD.replace("good", "standing")))
    (folder / "workflows/rows.voca").write_text(_ROWS.format(sheet="rows", title="Title"), encoding="utf-8")
    (folder / "workflows/follow.voca").write_text(_FOLLOWING, encoding="utf-8")
