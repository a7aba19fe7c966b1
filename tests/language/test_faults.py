"""Every fault of the checker, each with its place, its message and its mend, to the letter."""

from __future__ import annotations

import pytest

from tests.conftest import ids
from tests.language.surroundings import EVENT as E
from tests.language.surroundings import HEAD as H
from tests.language.surroundings import faults_of


def ev(*fields: str) -> str:
    """A workflow that creates an event with these fields."""
    return H + "create event in domes\n" + "".join(f"  {field}\n" for field in fields)


S = "start  Night-of at From"
# name, workflow, its faults as "line:column message | mend"
CASES: list[tuple[str, str, list[str]]] = [
    ("no trigger", E, ["there is no trigger | begin with a line such as: when requests gains a row"]),
    ("no step", H, ["there is no step below the trigger | say what is to be done, such as: create event in …"]),
    ("two triggers", H + H + E, ["2:1 a second trigger | one file holds one workflow with one trigger"]),
    (
        "unknown trigger",
        "when requests looses a row\n" + E,
        ['1:6 there is no trigger "requests looses a row" | the nearest is: SHEET gains, changes or loses a row'],
    ),
    (
        "odd trigger",
        "when fish swim\n" + E,
        [
            '1:6 there is no trigger that begins with "fish" | there are: SHEET gains, changes or loses a row; '
            "CALENDARS gains, changes or loses an event; CALENDARS begins an event; CALENDARS ends an event; TASKS "
            "finishes a task; CHAT hears a message; MAILBOX receives an email; MAILBOX receives an invitation; "
            "CALENDAR receives an answer; FORM receives an entry; FORM gains, changes or loses an entry; "
            "HOOK receives a call; HOOK gains, changes or loses a call; clock reads TIME on DAYS; clock reads TIME; "
            "clock passes every "
            "DURATION; asked; asked about a row of SHEET; asked about an event of CALENDARS"
        ],
    ),
    (
        "incomplete trigger",
        "when requests gains\n" + E,
        ["1:6 this trigger is not complete | written: SHEET gains, changes or loses a row"],
    ),
    (
        "unknown place",
        "when request gains a row\n" + E,
        ['1:6 there is no place "request" in whenvoca.toml | did you mean requests?'],
    ),
    (
        "wrong kind of place",
        "when domes gains a row\n" + E,
        ["1:6 domes is a calendar, and here stands a sheet | known here: fixed, fresh, gone, log, requests"],
    ),
    (
        "unavailable",
        "when chat gains a row\n" + E,
        ["1:6 chat is a chat, and here stands a sheet | known here: fixed, fresh, gone, log, requests"],
    ),
    (
        "unreadable",
        "when gone gains a row\n" + E,
        ["1:6 gone cannot be read: there is no such file | look at its path"],
    ),
    (
        "setting of trigger",
        H + "  were  Answer is empty\n" + E,
        ['2:3 this trigger has no setting "were" | did you mean where?'],
    ),
    ("existing takes yes", H + "  existing  12\n" + E, ["2:13 existing takes yes or no"]),
    (
        "now in where",
        H + "  where  Night-of > today\n" + E,
        ["2:10 today in the where of a set | a row would leave the set by itself; compare with a column or a date"],
    ),
    (
        "unknown column",
        H + "  where  Anser is empty\n" + E,
        ['2:10 there is no column or name "Anser" in requests | did you mean Answer?'],
    ),
    (
        "unknown step",
        H + "creat event in domes\n  " + S,
        ['2:1 there is no step "creat event in domes" | the nearest is: create event in CALENDAR'],
    ),
    (
        "odd step",
        H + "dance\n",
        [
            '2:1 there is no step that begins with "dance" | steps begin with: create, change, delete, mirror, find, '
            "publish, write, number, spread, add, take, fill, send, answer, file, keep, read, save, set, restore, "
            "finish, call; all of them: whenvoca words"
        ],
    ),
    (
        "incomplete step",
        H + "create event in\n  " + S,
        ["2:1 this step is not complete | written: create event in CALENDAR"],
    ),
    (
        "calendar wanted",
        H + "create event in requests\n  " + S,
        ["2:17 requests is a sheet, and here stands a calendar | known here: domes, staff"],
    ),
    (
        "read-only",
        H + "create event in staff\n  " + S,
        ["2:17 staff is read-only | take readonly = true away from it in whenvoca.toml, or write elsewhere"],
    ),
    (
        "read-only row",
        "when fixed gains a row\nchange row\n  Answer  1\n",
        ["2:1 fixed is read-only | take readonly = true away from it in whenvoca.toml"],
    ),
    ("missing start", ev("title  Target"), ["2:1 the start is missing | give start, or first-day and last-day"]),
    (
        "end and length",
        ev(S, "end  Night-of at To", "length  1 hour"),
        ["5:3 end and length do not go together | leave one of them"],
    ),
    ("last without first", ev(S, "last-day  Night-of"), ["4:3 last-day stands without first-day | give both"]),
    (
        "end without start",
        ev("first-day  Night-of", "end  Night-of at To"),
        ["4:3 end stands without start | give both"],
    ),
    ("unknown field", ev(S, "titel  Target"), ['4:3 "create event in" has no field "titel" | did you mean title?']),
    ("field twice", ev(S, S), ['4:3 "start" stands twice in this step | leave one of them']),
    ("field without value", ev(S, "title"), ['4:3 "title" has no value | a field line is a name, blanks, and a value']),
    (
        "text as start",
        ev("start  Target"),
        [
            '3:10 start takes a moment, and this is a text | requests, E5 is "x"; say what the column holds: kinds = '
            '{ "Target" = "moment" }'
        ],
    ),
    (
        "time as start",
        ev("start  From"),
        ['3:10 start takes a moment, and this is a time | join it with a date: "Day at Begin"'],
    ),
    ("number as at", ev("start  Pupils at From"), ["3:10 before at stands a date, and this is a number"]),
    (
        "moment before at",
        ev("start  Seen-at at From"),
        ["3:10 before at stands a date, and this is a moment | its date is: … as date"],
    ),
    (
        "date as time",
        ev("start  Night-of at Night-of"),
        ["3:22 after at stands a time, and this is a date | give a column or value that holds a time"],
    ),
    (
        "duration at",
        ev("start  Night-of + 1 day at From"),
        [
            "3:10 a moment cannot be added to a date",
            "3:21 before at stands a date, and this is a duration | put brackets around the sum before at",
        ],
    ),
    ("length no duration", ev(S, "length  Pupils"), ["4:11 length takes a duration, and this is a number"]),
    (
        "reminder without before",
        ev(S, "reminder  25 minutes"),
        [
            "4:13 reminder takes a duration before or after the start, and this is a duration | written: 25 minutes "
            "before"
        ],
    ),
    (
        "reminder text",
        ev(S, "reminder  Target"),
        [
            "4:13 reminder takes a duration before or after the start, and this is a text | written: 25 minutes "
            "before, "
            "or none"
        ],
    ),
    (
        "attendee",
        ev(S, 'attendees  "inse"'),
        ['4:14 "inse" is neither an email address nor a name from [people] | did you mean ines?'],
    ),
    ("attendees number", ev(S, "attendees  Pupils"), ["4:14 attendees takes addresses, and this is a number"]),
    ("busy", ev(S, "busy  maybe"), ['4:9 busy is never "maybe" | it is one of: yes, no, tentative, unavailable']),
    (
        "busy text",
        ev(S, 'busy  "maybe"'),
        ['4:9 busy is never "maybe" | it is one of: yes, no, tentative, unavailable'],
    ),
    (
        "zone",
        ev(S, 'zone  "Atlantic/Azore"'),
        ['4:9 there is no zone "Atlantic/Azore" | did you mean Atlantic/Azores or Atlantic/Faroe?'],
    ),
    ("colour", ev(S, 'colour  "teel"'), ['4:11 "teel" is no colour name of CSS | did you mean teal or steelblue?']),
    (
        "repeat",
        ev(S, "repeat  every fortnight"),
        ['4:11 "fortnight" is no unit of repetition; days, weeks, months, years'],
    ),
    ("repeat day", ev(S, "repeat  every week on moonday"), ['4:11 "moonday" is no day of the week']),
    (
        "repeat until and times",
        ev(S, "repeat  every week until 2027-06-30, 6 times"),
        ["4:11 until and times do not go together | leave one of them"],
    ),
    (
        "repeat no every",
        ev(S, 'repeat  "weekly"'),
        ['4:11 a repetition begins with "every", as in: every 2 weeks on wednesday, 6 times'],
    ),
    (
        "yes-no",
        ev(S, "private  Target"),
        [
            '4:12 private takes yes or no, and this is a text | requests, E5 is "x"; say what the column holds: kinds '
            '= { "Target" = "yes-no" }'
        ],
    ),
    (
        "zone of workflow",
        'zone "Moon/Base"\n' + H + E,
        ['1:1 there is no zone "Moon/Base" | write an IANA name such as "Europe/Lisbon"'],
    ),
    (
        "no column",
        H + "change row\n  Anwser  1\n",
        ['3:3 there is no column "Anwser" in requests | did you mean Answer?'],
    ),
    (
        "column twice",
        H + "change row\n  Notes  1\n",
        ['3:3 two columns of requests stand for "Notes": O4 and P4 | rename one of them in the sheet'],
    ),
    (
        "column twice read",
        ev(S, "details  Notes"),
        ['4:12 two columns of requests stand for "Notes": O4 and P4 | rename one of them in the sheet'],
    ),
    (
        "no fields",
        H + "change row\n",
        ["2:1 no column is named below this step | below it stands a line for each column to be written"],
    ),
    (
        "declared kind",
        H + 'add row to log\n  Seen  "soon"\n',
        ['3:9 the column "Seen" holds moments, and this is a text'],
    ),
    ("names nothing", H + "delete row as entry\n", ['2:1 "delete row" gives nothing that could be named']),
    ("unknown name", ev(S, "title  wish.Title"), ['4:10 there is no "wish" | known here: row']),
    (
        "column before dot",
        ev(S, "title  Target.x"),
        ['4:10 "Target" is a column, and before a dot stands a thing | known here: row'],
    ),
    (
        "no such field",
        H + E.replace("domes", "domes as slot") + "change row\n  Answer  slot.adress\n",
        ['6:11 an event has no field "adress" | did you mean address?'],
    ),
    ("priority", ev(S, "priority  12"), ["4:13 priority is a whole number from 0 to 9"]),
    ("priority parted", ev(S, "priority  1.5"), ["4:13 priority is a whole number from 0 to 9"]),
    ("reason outside", ev(S, "title  reason"), ["4:10 reason is known in failure blocks only"]),
    (
        "failed name",
        H + "create event in domes as slot\n  " + S + "\nif it fails\n  change row\n    Answer  slot.uid\n",
        ['6:13 "slot" is not known here: the step that gives it has failed'],
    ),
    (
        "name of branch",
        H + "if Pupils > 3\n  let x = 1\nchange row\n  Answer  x\n",
        ['5:11 "x" is not known here: only one branch of an if gives it'],
    ),
    (
        "name in anything",
        H + "create event in domes as slot\n  " + S + "\nif anything fails\n  change row\n    Answer  slot.uid\n",
        ['6:13 "slot" is not known here: it may not have been reached when the run failed'],
    ),
    (
        "given and column",
        H + "let target = 1\nchange row\n  Answer  Target\n",
        [
            '4:11 "Target" is a field of row of requests and a given name | write row.Target, or give the other one '
            "another name"
        ],
    ),
    (
        "doubtful",
        ev("start  Doubtful at From"),
        [
            '3:10 the column "Doubtful" can be read in two ways: s.csv, K2: 03/04/2027 can be two days | dates = "day '
            'first"'
        ],
    ),
    ("doubtful shown", H + 'change row\n  Answer  "{Doubtful}"\n', []),
    (
        "plus texts",
        ev(S, "title  Target + Answer"),
        ['4:10 a text cannot be added to a text | texts are joined in braces: "{A} {B}"'],
    ),
    ("date plus number", ev("start  Night-of + 3"), ["3:10 a number cannot be added to a date"]),
    ("time plus", ev("start  Night-of at From + Target"), ["3:10 a text cannot be added to a moment"]),
    ("moment plus moment", ev("start  Seen-at + Seen-at"), ["3:10 a moment cannot be added to a moment"]),
    (
        "no condition",
        H + "  where  Target\n" + E,
        ["2:10 this is a text and no condition | a condition compares: Answer is empty, Pupils > 20"],
    ),
    (
        "never same",
        H + '  where  Night-of is "17.03.2027"\n' + E,
        ["2:22 a date is never a text | a date is written 2027-03-17, without quotes"],
    ),
    ("no order", H + "  where  Who > 3\n" + E, ["2:10 a list of texts has no order"]),
    (
        "cannot compare",
        H + "  where  Pupils > Night-of\n" + E,
        ["2:19 a number cannot be compared with a date | a date is written 2027-03-17, without quotes"],
    ),
    (
        "contains number",
        H + '  where  Pupils contains "2"\n' + E,
        ["2:10 contains asks a text or a list, and this is a number"],
    ),
    (
        "begins number",
        H + '  where  Pupils begins with "2"\n' + E,
        ["2:10 begins with asks a text, and this is a number"],
    ),
    (
        "loose or",
        H + '  where  Answer is "a" or "b"\n' + E,
        ['2:27 what stands after or is no condition | write: is one of …, "b"'],
    ),
    (
        "and or",
        H + "  where  Answer is empty and Pupils > 3 or Online is yes\n" + E,
        ['2:41 "and" and "or" stand side by side | put brackets around what belongs together'],
    ),
    ("between", H + "  where  Pupils between 3\n" + E, ['2:26 "and" is missing here | written: X between A and B']),
    ("is nothing", H + "  where  Answer is\n" + E, ["2:19 a value is missing here"]),
    ("where nothing", H + "  where\n" + E, ["2:3 where has no value"]),
    (
        "each no list",
        H + "let a = each x in Target: x\nchange row\n  Answer  a\n",
        ["2:19 each goes through a list, and this is a text"],
    ),
    (
        "each no colon",
        H + "let a = each x in Who x\nchange row\n  Answer  a\n",
        ['2:23 a colon is missing here | written: each e in events: "{e.title}"'],
    ),
    (
        "for each no list",
        H + "for each x in Pupils\n  stop\n",
        ["2:15 for each goes through a list, and this is a number"],
    ),
    (
        "for each odd",
        H + "for each x\n  stop\n",
        ["2:1 this repetition is not understood | written: for each NAME in LIST"],
    ),
    (
        "function",
        H + "let a = cuont(Who)\nchange row\n  Answer  a\n",
        ['2:9 there is no function "cuont" | did you mean count?'],
    ),
    ("function values", H + "let a = count(Who, Who)\nchange row\n  Answer  a\n", ["2:9 count takes one value, not 2"]),
    (
        "function no list",
        H + "let a = count(Target)\nchange row\n  Answer  a\n",
        ["2:15 count takes a list, and this is a text"],
    ),
    (
        "as text",
        H + "let a = Target as date\nchange row\n  Answer  a\n",
        ["2:9 as shows a date, time, moment or number, and this is a text"],
    ),
    (
        "as nothing",
        H + "let a = Day as week\nchange row\n  Answer  a\n",
        ['2:16 after as stands date, time or a pattern | such as "EEE d MMM HH:mm"'],
    ),
    (
        "then missing",
        H + "let a = if Answer is empty 1\nchange row\n  Answer  a\n",
        ['2:28 "then" is missing here | a choice is written: if CONDITION then VALUE else VALUE'],
    ),
    ("let", H + "let a\nstop\n", ["2:1 this let is not understood | written: let NAME = VALUE"]),
    ("let name", H + "let today = 1\nstop\n", ['2:5 "today" is a word of the language | choose another name']),
    (
        "let odd name",
        H + "let 2nd = 1\nstop\n",
        ["2:5 2nd is no name | a name is one word of letters, digits and hyphens"],
    ),
    ("fail", H + "fail\n", ['2:1 the reason is missing | written: fail "There is no such visit"']),
    (
        "if empty",
        H + "if Answer is empty\nstop\n",
        ["2:1 nothing stands below this line | indent below it what is to be done"],
    ),
    ("else alone", H + "else\n  stop\n", ["2:1 no if stands directly above | else belongs below an if, at its depth"]),
    (
        "fails alone",
        H + "if it fails\n  stop\n",
        ['2:1 no step stands directly above | "if it fails" belongs below a step, at its depth'],
    ),
    (
        "fails twice",
        H + E + "if it fails\n  stop\nif it fails\n  stop\n",
        ['7:1 "if it fails" stands twice below one step'],
    ),
    (
        "anything not last",
        H + "if anything fails\n  stop\n" + E,
        ['2:1 "if anything fails" is not the last part | move it to the end of the file'],
    ),
    (
        "anything indented",
        H + "if Answer is empty\n  if anything fails\n    stop\n",
        ['3:3 "if anything fails" is indented | it stands once, last, at the left edge'],
    ),
    (
        "anything twice",
        H + E + "if anything fails\n  stop\nif anything fails\n  stop\n",
        [
            '5:1 "if anything fails" is not the last part | move it to the end of the file',
            '7:1 "if anything fails" stands twice | once is enough',
        ],
    ),
    ("never runs", H + "stop\n" + E, ["3:1 this can never run: stop stands above it | take one of them away"]),
    ("never runs if", H + "if no\n  stop\n", ["3:3 this can never run: its condition is no"]),
    (
        "alike",
        H + E + E,
        [
            "5:1 two steps that make something are alike, so what they make could not be told apart | give each a "
            "name of its own: create event in … as NAME (the other one is on line 2)"
        ],
    ),
    (
        "names two",
        H + E.replace("domes", "domes as a") + E.replace("domes", "domes as A"),
        ['5:1 "A" names two steps | the other one is on line 2; choose another name'],
    ),
    (
        "as two",
        H + "create event in domes as a b\n  " + S,
        ['2:23 "as a b" is not expected here | after as stands one name'],
    ),
    (
        "setting below",
        H + 'title "x"\n' + E,
        ["2:1 title stands below the trigger | settings stand above the when line"],
    ),
    ("setting twice", 'title "x"\ntitle "y"\n' + H + E, ["2:1 title stands twice | leave one of them"]),
    ("setting value", "tries many\n" + H + E, ["1:7 tries takes a whole number"]),
    ("tries text", 'tries "5"\n' + H + E, ["1:7 tries takes a whole number"]),
    ("title bare", "formerly duties\n" + H + E, ['1:10 formerly takes a text in quotes | written: formerly "duties"']),
    ("title number", "title 12\n" + H + E, ["1:7 title takes a text in quotes"]),
    ("brake", "brake many\n" + H + E, ["1:1 this brake is not understood | written: brake 20 deletions"]),
    ("missed", "missed 3\n" + H + E, ["1:8 missed takes a duration such as 3 hours"]),
    ("setting nothing", "title\n" + H + E, ["1:1 title has no value"]),
    (
        "tab",
        H + "\t" + E,
        [
            "there is no step below the trigger | say what is to be done, such as: create event in …",
            "2:1 a tab stands in the indentation | whenvoca tidy fixes it",
            '2:5 this trigger has no setting "create" | known here: existing, fields, where',
            "3:3 this indentation fits no line above | indent it as the lines it belongs to",
            '4:3 this trigger has no setting "start" | known here: existing, fields, where',
        ],
    ),
    (
        "indent",
        H + "create event in domes\n    title  Target\n  start  Night-of at From\n   length  1 hour\n",
        [
            "4:3 this indentation fits no line above | indent it as the lines it belongs to",
            '5:4 two names side by side: "From" and "length" | one column: From-length; a date with its time: From at '
            'length; a text: "From length"',
        ],
    ),
    ("text open", ev(S, 'title  "Target'), ['4:10 this text is never closed | end it with "']),
    ("block open", ev(S, 'details """', "  x"), ['4:11 this text block is never closed | end it with """']),
    ("brace open", ev(S, 'title  "{Target"'), ["4:11 this brace is never closed | a brace itself is written \\{"]),
    ("brace empty", ev(S, 'title  "{}"'), ["4:11 nothing stands in these braces"]),
    ("escape", ev(S, 'title  "a\\nb"'), ['4:12 \\n is no escape | the escapes are \\" \\\\ and \\{']),
    ("sign", ev(S, "title  Target = 3"), ["4:17 the sign = means nothing here | equality is written: is"]),
    (
        "odd number",
        ev(S, "length  25min"),
        ["4:11 25min is neither a number, a date nor a name | a length is written: 25 minutes"],
    ),
    ("minus", ev(S, "length  3 hours -1 hour"), []),
    ("bad date", ev("start  2027-02-30"), ["3:10 2027-02-30 is no date of the calendar"]),
    ("bad time", ev("start  Day at 25:10"), ["3:17 25:10 is no time of the day"]),
    (
        "two names",
        ev("start  Night of at From"),
        ['3:16 two names side by side: "Night" and "of" | one column: Night-of; a text: "Night of"'],
    ),
    ("bracket", ev(S, "title  lower(Target"), ["4:22 a closing bracket is missing"]),
    (
        "word as value",
        ev(S, "title  where"),
        ['4:10 "where" is a word of the language and no value | a column of that name: row.where'],
    ),
    ("value missing", ev("start  Night-of at"), ["3:21 a value is missing here"]),
    ("left over", ev(S, "title  Target )"), ["4:17 ) is not expected here"]),
    (
        "behind block",
        ev(S, 'details """', "  x", '  """ y'),
        ['6:1 "y" stands behind the end of a text block | put it on a line of its own'],
    ),
]


@pytest.mark.parametrize(("name", "text", "expected"), CASES, ids=ids(CASES))
def test_fault_is_told_with_place_and_mend(name: str, text: str, expected: list[str]) -> None:
    told = []
    for fault in faults_of(text):
        place = f"{fault.where.removeprefix('test.voca:')} " if fault.spot else ""
        told.append(f"{place}{fault.message}" + (f" | {fault.fix}" if fault.fix else ""))
    assert told == expected


def test_fault_shows_its_line_with_the_spot_marked() -> None:
    (fault,) = faults_of(H + "  where  Anser is empty\n" + E)
    assert fault.show() == (
        'test.voca:2:10: there is no column or name "Anser" in requests\n'
        "      where  Anser is empty\n"
        "             ^^^^^\n"
        "  did you mean Answer?"
    )


def test_all_faults_are_told_at_once() -> None:
    text = H + '  where  Anser is empty\ncreate event in dome\n  start  Nite-of at From\n  colour  "teel"\n'
    assert [fault.spot.line for fault in faults_of(text) if fault.spot] == [2, 3, 4, 5]


def test_cells_in_doubt_are_a_fault_of_the_data_not_of_the_workflow() -> None:
    (fault,) = faults_of(ev("start  Doubtful at From"))
    assert fault.in_data


EV = "when domes gains, changes or loses an event\n"
GCL = "when requests gains, changes or loses a row\n"
FOLLOWING: list[tuple[str, str, list[str]]] = [
    (
        "mirror of gains only",
        "when requests gains a row\nmirror event in domes\n  start  Night-of at From\n",
        [
            "2:1 a mirror follows what comes, changes and goes, and this trigger does not tell of all three | "
            "written: when requests gains, changes or loses a row"
        ],
    ),
    (
        "create under changes",
        "when requests gains or changes a row\ncreate event in domes\n  start  Night-of at From\n",
        ["2:1 each change would make one more event | mirror event in domes keeps one event for each row"],
    ),
    (
        "fields without changes",
        "when requests gains a row\n  fields  Target\nchange row\n  Answer  1\n",
        ["2:11 fields narrow what counts as a change, and this trigger tells of none"],
    ),
    (
        "unknown field",
        "when domes changes an event\n  fields  strat\ndelete event\n",
        ['2:11 there is no name "strat" | did you mean start?'],
    ),
    (
        "old of gained",
        "when requests gains a row\nchange row\n  Answer  old.Target\n",
        ["3:11 old has no value here: nothing stood before what is gained"],
    ),
    (
        "changes of gained",
        "when requests gains a row\nchange row\n  Answer  count(changes)\n",
        ["3:17 changes is known where a trigger tells of changes"],
    ),
    (
        "look-up without where",
        "when requests changes a row\ndelete event in domes\n",
        ["2:1 where is missing: which one? | below it: where  event …"],
    ),
    (
        "look-up of an unknown field",
        "when requests changes a row\ndelete event in domes\n  where  strat is row.Target\n",
        ['3:10 there is no name "strat" | did you mean start?'],
    ),
    (
        "bare name in a look-up is its own field",
        "when requests changes a row\nfind event in domes as one\n  where  title is Target\n",
        ['3:19 there is no name "Target" | here the subject is written in full: row.Target'],
    ),
    (
        "row alone in an event's workflow",
        EV + "change row\n  Answer  1\n",
        ["2:1 the workflow is not about a row | written: change row in SHEET"],
    ),
    (
        "event alone in a row's workflow",
        GCL + 'change event\n  title  "x"\n',
        ["2:1 the workflow is not about an event | written: change event NAME, or change event in CALENDAR"],
    ),
    (
        "name of another kind",
        GCL + "find row in requests as entry\n  where  Target is row.Target\ndelete event entry\n",
        ["4:14 delete event takes an event, and this is a row of requests"],
    ),
    (
        "read-only calendar",
        GCL + "delete event in staff\n  where  uid is row.Answer\n",
        ["2:17 staff is read-only | take readonly = true away from it in whenvoca.toml, or write elsewhere"],
    ),
    (
        "from without until",
        GCL + "find events in domes as some\n  from  today\n",
        ["3:3 from stands without until | give both"],
    ),
    (
        "things as texts",
        GCL + 'change row\n  Answer   "{old} {changes} {each c in changes: "{c.field}"}"\n  Target   row\n',
        [
            "3:14 a row of requests is no text | one of its fields is: old.Answer",
            '3:20 a list of things is no text | a text of each of them is: {each one in changes: "{one.field}"}',
            "4:12 a row of requests is no text | one of its fields is: row.Answer",
        ],
    ),
    (
        "compared with itself",
        GCL + "delete event in domes\n  where  title is Title\n",
        [
            "3:19 Title is compared with itself | in where a bare name is of what is looked for; that of the row: "
            "row.Title"
        ],
    ),
    (
        "odd choice",
        GCL + "delete event in domes\n  where    uid is row.Answer\n  several  many\n",
        ['4:12 several is never "many" | it is one of: fail, first, all'],
    ),
    (
        "now in the where of a set",
        "when domes changes an event\n  where  start > now\ndelete event\n",
        ["2:10 now in the where of a set | an event would leave the set by itself; compare with a column or a date"],
    ),
    (
        "sound mirror",
        GCL + "mirror event in domes\n  title  Target\n  start  Night-of at From\n  disputed  as in copy\n",
        [],
    ),
    (
        "sound log",
        EV
        + 'let was = each c in changes: "{c.field}: {c.old}"\nadd row to log\n  What  "{event.title} {was} {happened} '
        '{old.start}"\n',
        [],
    ),
    (
        "sound list",
        GCL + "find events in domes as some\n  where  location is filled\nfor each e in some\n  change event e\n    "
        'details  "{e.title} {row.Target}"\n',
        [],
    ),
]


@pytest.mark.parametrize(("name", "text", "expected"), FOLLOWING, ids=ids(FOLLOWING))
def test_fault_of_what_changes_and_goes_is_told(name: str, text: str, expected: list[str]) -> None:
    told = []
    for fault in faults_of(text):
        place = f"{fault.where.removeprefix('test.voca:')} " if fault.spot else ""
        told.append(f"{place}{fault.message}" + (f" | {fault.fix}" if fault.fix else ""))
    assert told == expected
