"""Slips of beginners: each answer names the slip, and says how what was meant is written."""

from __future__ import annotations

import pytest

from tests.conftest import REQUESTS, SETTINGS, Desk
from tests.language.surroundings import faults_of

# a workflow, and what is said of it: "line:column message | how it is written"
SLIPS = [
    (
        'when requests gains a row\n  where  Answer = "granted"\n\nstop',
        ["2:17 the sign = means nothing here | equality is written: is"],
    ),
    (
        'when requests gains a row\n  where  Answer == "granted"\n\nstop',
        ["2:17 the sign == means nothing here | equality is written: is"],
    ),
    (
        'when requests gains a row\n  where  Answer != "granted"\n\nstop',
        ["2:17 the sign != means nothing here | written: is not"],
    ),
    (
        "when requests gains a row\n  where  Answer is granted\n\nstop",
        [
            '2:20 there is no column or name "granted" in requests | a text stands in quotes: "granted"; whenvoca '
            "read sheet shows the columns of requests"
        ],
    ),
    (
        "when requests gains a row\n  where  Night of is filled\n\nstop",
        ['2:16 two names side by side: "Night" and "of" | one column: Night-of; a text: "Night of"'],
    ),
    (
        "when requests gains a row\n  where  happened is lost\n\nstop",
        ['2:22 there is no column or name "lost" in requests | it is a text: happened is "lost"'],
    ),
    (
        "when requests gains, changes or loses a row\n\nif happened is lost\n  stop",
        ['3:16 there is no column or name "lost" in requests | it is a text: happened is "lost"'],
    ),
    (
        'when requests gains a row\n  where  Target does not contain "M"\n\nstop',
        ['2:17 "does" does not belong here | written: not Target contains "…"'],
    ),
    (
        "when requests gains a row\n\ncreate event in domes\n  title  Target\n  start  Night-of at 5pm",
        ["5:22 5pm is neither a number, a date nor a name | times have 24 hours: 17:00"],
    ),
    (
        "when requests gains a row\n\ncreate event in domes\n  title  Target\n  start  tommorow at 17:00",
        ['5:10 there is no column or name "tommorow" in requests | did you mean tomorrow?'],
    ),
    (
        "when requests gains a row\n\ncreate event in domes\ntitle  Target\nstart  Night-of at From",
        [
            "4:1 title stands beside its step | indent it: what belongs to a step is below it",
            "5:1 start stands beside its step | indent it: what belongs to a step is below it",
        ],
    ),
    (
        "when requests gains a row\n\twhere  Answer is empty\n\ncreate event in domes\n\ttitle  Target\n    start  "
        "Night-of at From",
        [
            "2:1 a tab stands in the indentation | whenvoca tidy fixes it",
            "5:1 a tab stands in the indentation | whenvoca tidy fixes it",
        ],
    ),
    (
        "create event in domes\n  title  Target\n  start  Night-of at From\n\nwhen requests gains a row",
        ["5:1 the trigger stands below a step | it comes first, above all steps"],
    ),
    (
        "when requests gains a row\n\nif Answer is empty then\n  stop",
        ["3:20 then does not stand in an if line | its steps stand on the lines below it, indented"],
    ),
    (
        "when requests gains a row\n\nif Answer is empty then stop",
        ["3:20 then does not stand in an if line | its steps stand on the lines below it, indented"],
    ),
    (
        "when requests gains a row\n\nif Answer is empty\nstop",
        ["3:1 nothing stands below this line | indent below it what is to be done"],
    ),
    (
        "when requests gains a row\n\ncreate event in domes\n  title  Target\n  start: Night-of at From",
        ["5:9 between a field and its value stand blanks alone | written: start  Night-of at From"],
    ),
    (
        "when requests gains a row\n\ncreate event in domes\n  title = Target\n  start  Night-of at From",
        ["4:8 between a field and its value stand blanks alone | written: title  Target"],
    ),
    (
        "when requests gains a row\n\ncreate event in domes\n  title  My title\n  start  Night-of at From",
        [
            '4:13 two names side by side: "My" and "title" | one column: My-title; a date with its time: My at title; '
            'a text: "My title"'
        ],
    ),
    (
        "when requests gains a row\n\ncreate event in domes\n  title  'My title'\n  start  Night-of at From",
        ["4:10 texts stand in double quotes, and 'My title' in single ones | written: \"My title\""],
    ),
    (
        'when requests gains a row\n\ncreate event in domes\n  title  "My title\n  start  Night-of at From',
        ['4:10 this text is never closed | end it with "'],
    ),
    (
        'when requests gains a row\n\ncreate event in domes\n  title  Target + " x"\n  start  Night-of at From',
        ['4:10 a text cannot be added to a text | texts are joined in braces: "{A} {B}"'],
    ),
    (
        'when requests gains a row\n\ncreate event in domes\n  title  "{{Target}}"\n  start  Night-of at From',
        ["4:12 braces within braces | one pair is enough: {Target}"],
    ),
    (
        "when requests gains a row\n\ncreate event in domes\n  title  [Target]\n  start  Night-of at From",
        ["4:10 the sign [ means nothing here | a column is written without brackets: Target"],
    ),
    (
        "when a row is added to requests\n\nstop",
        ['1:6 there is no trigger "a row is added to requests" | written: when requests gains a row'],
    ),
    (
        "when new row in requests\n\nstop",
        ['1:6 there is no trigger "new row in requests" | written: when requests gains a row'],
    ),
    (
        "When requests gets a row\n\nstop",
        ['1:6 there is no trigger "requests gets a row" | written: when requests gains a row'],
    ),
    (
        "when requests gains a row\nwhere  Answer is empty\n\nstop",
        ["2:1 where stands at the left edge | it belongs to the trigger: indent it below the when line"],
    ),
    (
        "when requests gains a row\n\ncreate an event in domes\n  title  Target\n  start  Night-of at From",
        ['3:1 there is no step "create an event in domes" | written: create event in domes'],
    ),
    (
        "when requests gains a row\n\nadd event to domes\n  title  Target\n  start  Night-of at From",
        ['3:1 there is no step "add event to domes" | written: create event in domes'],
    ),
    (
        "when requests gains a row\n\ncreate event\n  title  Target\n  start  Night-of at From",
        ["3:1 this step is not complete | written: create event in CALENDAR"],
    ),
    (
        "when requests gains a row\n\ncreate event in domes\n  name  Target\n  date  Night-of\n  start Night-of at "
        "From",
        [
            '4:3 "create event in" has no field "name" | it is called title here',
            '5:3 "create event in" has no field "date" | it is called start here',
        ],
    ),
    (
        "when requests gains a row\n\ncreate event in domes\n  title  Target\n  start  Night-of From",
        [
            '5:19 two names side by side: "Night-of" and "From" | one column: Night-of-From; a date with its time: '
            'Night-of at From; a text: "Night-of From"'
        ],
    ),
    (
        "when requests gains a row\n\ncreate event in domes\n  title  Target\n  start  Night-of + From",
        ["5:10 a time cannot be added to a date | a date and its time are joined by at: Night-of at From"],
    ),
    (
        "when requests gains a row\n\ncreate event in domes\n  title  Target\n  start  17.03.2027 at 21:30",
        ["5:10 17.03.2027 is neither a number, a date nor a name | dates are written year first: 2027-03-17"],
    ),
    (
        'when requests gains a row\n\ncreate event in domes\n  title  Target\n  start  "2027-03-17 21:30"',
        ["5:10 start takes a moment, and this is a text | written without quotes: 2027-03-17 at 21:30"],
    ),
    (
        "when requests gains a row\n\ncreate event in domes\n  title   Target\n  start   Night-of at From\n  length  "
        "1h",
        ["6:11 1h is neither a number, a date nor a name | a length is written: 1 hour"],
    ),
    (
        "when requests gains a row\n\ncreate event in domes\n  title   Target\n  start   Night-of at From\n  length  "
        "60",
        ["6:11 length takes a duration, and this is a number | with its unit: 60 minutes"],
    ),
    (
        "when requests gains a row\n\ncreate event in domes\n  title     Target\n  start     Night-of at From\n  "
        "reminder  30 minutes",
        [
            "6:13 reminder takes a duration before or after the start, and this is a duration | written: 30 minutes "
            "before"
        ],
    ),
    (
        "when requests gains a row\n\ncreate event in domes\n  title      Target\n  start      Night-of at From\n  "
        "attendees  ines, rui",
        [
            '6:14 there is no column or name "ines" in requests | a name from [people] stands in quotes: "ines"',
            '6:20 there is no column or name "rui" in requests | a text stands in quotes: "rui"; whenvoca read sheet '
            "shows the columns of requests",
        ],
    ),
    (
        'when requests gains a row\n\nset Answer to "granted"',
        [
            '3:1 "Answer" is set like a variable, and a cell is written by a step | written: change row, and indented '
            'below it: Answer  "granted"; a value gets a name by let'
        ],
    ),
    (
        'when requests gains a row\n\nAnswer = "granted"',
        [
            '3:1 "Answer" is set like a variable, and a cell is written by a step | written: change row, and indented '
            'below it: Answer  "granted"; a value gets a name by let'
        ],
    ),
    (
        'when requests gains a row\n\nchange row\n  Answer: "granted"',
        ['4:10 between a field and its value stand blanks alone | written: Answer  "granted"'],
    ),
    (
        'when requests gains a row\n\nupdate row\n  Answer  "granted"',
        ['3:1 there is no step "update row" | written: change row'],
    ),
    (
        'when requests gains a row\n\nsend email to ines\n  text  "Hello"',
        ['3:15 there is no column or name "ines" in requests | a name from [people] stands in quotes: "ines"'],
    ),
    (
        'when requests gains a row\n  where  Answer is empty or "later"\n\nstop',
        ["2:29 this is a text and no condition | a condition compares: Answer is empty, Pupils > 20"],
    ),
    (
        'when requests gains a row\n  where  Answer is not empty and Target is filled or Instrument is "x"\n\nstop',
        [
            '2:51 "and" and "or" stand side by side | put brackets around what belongs together',
            '2:54 there is no column or name "Instrument" in requests | a text stands in quotes: "Instrument"; '
            "whenvoca read sheet shows the columns of requests",
        ],
    ),
    (
        "when requests gains a row\n  where  (Answer is empty\n\nstop",
        ["2:26 a closing bracket is missing | put ) where what it holds ends"],
    ),
    (
        "when requests gains a row\n  where Night-of > today\n\nstop",
        ["2:9 today in the where of a set | a row would leave the set by itself; compare with a column or a date"],
    ),
    (
        "when every day at 8:00\n\nstop",
        ['1:6 there is no trigger "every day at 8:00" | written: when clock reads 8:00'],
    ),
    ("every 15 minutes\n\nstop", ["1:1 a trigger begins with when | written: when clock passes every 15 minutes"]),
    ("// a remark\nwhen requests gains a row\n\nstop", ["1:1 a remark begins with # | written: # a remark"]),
    (
        "when requests gains a row\n\nend",
        ['3:1 "end" is not needed | a block ends where its indentation ends; leave this line out'],
    ),
    (
        'when requests gains a row\n\nlet x == Target\nfail "{x}"',
        ["3:1 let has one = and no more | written: let x = VALUE"],
    ),
    (
        'when requests gains a row\n\nfor each x in Target\n  fail "{x}"\nend for',
        [
            "3:15 for each goes through a list, and this is a text | a text becomes a list by: split(Target)",
            '5:1 "end for" is not needed | a block ends where its indentation ends; leave this line out',
        ],
    ),
    (
        "when requests gains a row; create event in domes",
        [
            "1:6 two things on one line | the trigger is: when requests gains a row; on a line of its own: create "
            "event in domes"
        ],
    ),
    (
        "if requests gains a row\n  create event in domes\n    title  Target",
        [
            "1:1 a trigger begins with when | written: when requests gains a row",
            "2:3 the start is missing | give start, or first-day and last-day",
        ],
    ),
    (
        "when requests gains a row\n\ncreate event in domes\n  title  Target\n  start  5 pm",
        ['5:12 "pm" does not belong here | times have 24 hours: 17:00'],
    ),
    (
        "when requests gains a row\n\ncreate event in domes\n  title  Target\n  start  3/17/2027",
        ["5:10 start takes a moment, and this is a number | dates are written year first: 2027-03-17"],
    ),
    (
        'when requests gains a row\n  where  Answer equals "granted"\n\nstop',
        ['2:17 "equals" does not belong here | written: is'],
    ),
    (
        "when requests gains a row\n  where  Answer is null\n\nstop",
        ['2:20 there is no column or name "null" in requests | what has no value is: empty'],
    ),
    ("when requests gains a row\n\ndelete the row", ['3:1 there is no step "delete the row" | written: delete row']),
    ("on every monday at 8:00\n\nstop", ["1:1 a trigger begins with when | written: when clock reads 8:00 on monday"]),
    (
        "when a new message in chat\n\nstop",
        ['1:6 there is no trigger "a new message in chat" | written: when chat hears a message'],
    ),
]


HIDDEN = ["No", "Yes", "Empty", "None", "Now", "Today"]


@pytest.mark.parametrize("heading", HIDDEN)
@pytest.mark.parametrize("line", ["change row\n  Nr  {}", "create event in domes\n  title  {}\n  start  2027-03-17"])
def test_a_word_that_hides_a_column_is_noted(desk: Desk, heading: str, line: str) -> None:
    desk.settings(SETTINGS, REQUESTS).rows(f"R-1,{'x'}", head=f"Nr,{heading}\n")
    desk.settings(SETTINGS, REQUESTS.replace('key = "No"\n', ""))
    desk.workflow("when requests gains a row\n\n" + line.format(heading) + "\n")
    checked = desk.run("check", "--json")
    said = f'"{heading}" is a word of the language here; the column is written: column "{heading}"'
    noted = [each for each in checked.json["warnings"] if said in each]
    assert (len(noted), checked.code) == (1, 0 if checked.json["ok"] else 1)
    desk.workflow("when requests gains a row\n\n" + line.format(f'column "{heading}"') + "\n")
    checked = desk.run("check", "--json").json
    assert (checked["ok"], [each for each in checked["warnings"] if said in each]) == (True, [])


@pytest.mark.parametrize(("text", "told"), SLIPS, ids=[text.split("\n")[-1].strip()[:30] for text, _ in SLIPS])
def test_a_slip_is_named_with_what_was_meant(text: str, told: list[str]) -> None:
    found = [
        (f"{fault.spot.line}:{fault.spot.column} " if fault.spot else "")
        + fault.message
        + (f" | {fault.fix}" if fault.fix else "")
        for fault in faults_of(text + "\n")
    ]
    assert found == told
