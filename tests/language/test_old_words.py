"""Words that have a new name: the old ones are read, named, and rewritten; what was recorded under them is found."""

from __future__ import annotations

import contextlib
import json
import sqlite3

import pytest

from tests.conftest import REQUESTS, SETTINGS, Desk
from tests.language.surroundings import AROUND
from whenvoca.language.checker import check_workflow
from whenvoca.language.reader import read_workflow
from whenvoca.language.tidy import tidy_text
from whenvoca.open_workspace import VOCABULARY

EVENT = (
    "when requests gains a row\n\ncreate event in domes\n  title     Title\n  start     Day at 10:00\n"
    "  reminder  5 minutes before\n"
)
ROW = "when requests gains a row\n"
CASES = [
    (ROW + '\nsend letter to "ines"\n  text  "Hello"\n', ROW + '\nsend email to "ines"\n  text  "Hello"\n'),
    (ROW + '\nSend Letter to "ines"\n  text  "Hello"\n', ROW + '\nSend email to "ines"\n  text  "Hello"\n'),
    ("brake 3 letters\n\n" + ROW + "\nstop\n", "brake 3 emails\n\n" + ROW + "\nstop\n"),
    ("brake 1 letter\n\n" + ROW + "\nstop\n", "brake 1 email\n\n" + ROW + "\nstop\n"),
    (
        ROW + "\ncreate event in domes\n  start  Night-of at From\n  alarm  9 minutes before  # soon\n",
        ROW + "\ncreate event in domes\n  start     Night-of at From\n  reminder  9 minutes before                  # "
        "soon\n",
    ),
    (
        'when domes changes an event\n  fields  title, alarm\n\nlet x = event.alarm\nfail "{event.alarm} {alarm}"\n',
        'when domes changes an event\n  fields  title, reminder\n\nlet x = event.reminder\nfail "{event.reminder} '
        '{reminder}"\n',
    ),
    (
        'when requests gains a row\n\nfind event in domes as slot\n  where  alarm is filled\nfail "{slot.alarm}"\n',
        "when requests gains a row\n\nfind event in domes as slot\n  where  reminder is filled\nfail "
        '"{slot.reminder}"\n',
    ),
    # a field of what is no event is not ours to rename
    (ROW + '\ncall "http://127.0.0.1/"\n  alarm  "x"\n', ROW + '\ncall "http://127.0.0.1/"\n  alarm  "x"\n'),
]


@pytest.mark.parametrize(("old", "new"), CASES)
def test_old_words_are_read_named_and_rewritten(old: str, new: str) -> None:
    assert tidy_text(old, VOCABULARY, AROUND) == new
    assert tidy_text(new, VOCABULARY, AROUND) == new
    workflow, faults = read_workflow("w", "w.voca", old, VOCABULARY)
    assert check_workflow(workflow, faults, AROUND) == []
    for each in faults.old_words:
        assert old.split("\n")[each.spot.line - 1][each.spot.column - 1 :].startswith(each.old)
    assert bool(faults.old_words) == (old != new)


def test_check_names_the_new_word_and_tidy_writes_it(desk: Desk) -> None:
    rows = desk.settings(SETTINGS, REQUESTS)
    rows.rows(",,R-1,M 42,17.03.2027,,")
    rows.workflow(EVENT.replace("reminder", "alarm   "))
    checked = rows.run("check")
    assert checked.code == 0
    assert '"alarm" is "reminder" now; whenvoca tidy slots rewrites it' in checked.err
    after = rows.run("run", "--json").json["runs"][0]["effects"][0]["after"]
    assert (after["reminders"], after["whole_day"]) == ([5], False)
    assert rows.run("tidy").code == 0
    assert "reminder  5 minutes" in rows.read("workflows/slots.voca")
    assert "now; whenvoca tidy" not in rows.run("check").err
    assert rows.run("run", "--json").json["runs"] == []  # it is the same step


def test_what_was_recorded_under_old_names_is_found(desk: Desk) -> None:
    """The verb and the field of a ledger that an older version wrote are put there by hand."""
    rows = desk.settings(
        SETTINGS, REQUESTS, '[places.post]\nkind = "outbox"\nfolder = "post"\nfrom = "d@example.org"\n'
    )
    rows.rows(",,R-1,M 42,17.03.2027,,")
    rows.workflow(EVENT + '\nsend email to "ines"\n  text  "Hello"\n')
    assert rows.run("run").code == 0
    with contextlib.closing(sqlite3.connect(rows.folder / ".whenvoca/ledger.sqlite")) as ledger, ledger:
        ledger.execute("UPDATE effects SET verb='send letter' WHERE verb='send email'")
        ((after,),) = ledger.execute("SELECT after FROM effects WHERE verb='create event'").fetchall()
        fields = json.loads(after)
        fields["alarm"] = fields.pop("reminder")
        ledger.execute("UPDATE effects SET after=? WHERE verb='create event'", (json.dumps(fields),))
    told = rows.run("explain", "1", "--json").json
    effects = [each["effect"] for each in told["explanations"][0]["told"] if each["effect"]]
    assert [each["verb"] for each in effects] == ["create event", "send email"]
    assert effects[0]["after"]["reminders"] == [5]
    assert "the email to ines@example.org cannot be taken back" in rows.run("undo", "1", "--yes").err
    assert list((rows.folder / "domes").glob("*.ics")) == []
