"""The reference of the language, made from the definitions that reader and checker use."""

from __future__ import annotations

import textwrap
from collections.abc import Sequence
from typing import Any

from msgspec import Struct

from whenvoca.language.definitions import FieldDefinition, Vocabulary
from whenvoca.language.old_words import FIELDS, new_sentence

_TYPES = {
    "text": "a text, or any value shown as one",
    "number": "a number",
    "yes-no": "yes or no",
    "date": "a date",
    "time": "a time",
    "moment": "a moment, or a date",
    "duration": "a duration",
    "addresses": "addresses or names",
    "reminders": "durations before or after",
    "repeat": "a repetition",
    "zone": "the name of a zone",
    "colour": "a colour name",
    "condition": "a condition",
    "value": "any value",
    "names": "names, with commas between",
    "people": "names from [people], or addresses",
    "list": "a list",
    "rooms": "rooms of the chat",
    "texts": "texts",
    "between": "two times of day",
    "weekdays": "days of the week",
    "calendars": "calendars",
    "choices": "one or several of its choices",
}


class Entry(Struct, frozen=True):
    """One thing to look up."""

    name: str
    kind: str  # step, trigger, setting, line, value, function
    meaning: str
    example: str = ""
    fields: tuple[FieldDefinition, ...] = ()
    open_fields: bool = False

    def to_json(self) -> dict[str, Any]:
        """The entry as JSON."""
        return {
            "name": self.name,
            "kind": self.kind,
            "meaning": self.meaning,
            "example": self.example,
            "columns_as_fields": self.open_fields,
            "fields": [
                {
                    "name": field.name,
                    "type": field.type,
                    "meaning": field.meaning,
                    "default": field.default,
                    "choices": list(field.choices),
                    "example": field.example,
                }
                for field in self.fields
            ],
        }


_FIXED = (
    Entry("title", "setting", "What the workflow is called for people.", 'title "Slot requests become dome bookings"'),
    Entry("about", "setting", "A sentence or two on what it is for.", 'about "Fills the dome calendar."'),
    Entry("zone", "setting", "The zone in which its times are meant, instead of the sheet's.", 'zone "Europe/Lisbon"'),
    Entry(
        "brake",
        "setting",
        "How many deletions, changes, messages, emails or calls one batch may make without a yes: 20 deletions and "
        "50 of what is told to others unless it says otherwise.",
        "brake 20 deletions",
    ),
    Entry(
        "tries",
        "setting",
        "How often one command tries a run where a place does not answer, or refuses; 3 unless it says otherwise. "
        "After "
        "so many refusals it has failed. Where nobody answers it waits: the next run and watch go on with it, for 24 "
        "hours, or as long as missed says.",
        "tries 5",
    ),
    Entry(
        "missed",
        "setting",
        "How late a trigger by time may still run, where the program was off when its moment came; an hour unless it "
        "says otherwise. What is later is told as missed.",
        "missed 3 hours",
    ),
    Entry(
        "private",
        "setting",
        "Whether titles, places and details of private events may be told to others, in rooms, rows, emails and "
        "presence. Hidden unless it says shown: then a private event is called private there.",
        "private shown",
    ),
    Entry(
        "formerly",
        "setting",
        "The file name the workflow had before, so that nothing is made twice.",
        'formerly "slots"',
    ),
    Entry("paused", "setting", "Whether it is left out of runs.", "paused yes"),
    Entry(
        "ask",
        "line",
        "An input: asked at the prompt, or given by --give NAME=VALUE. Below it stand kind (text, list, number, "
        "yes/no, date, time, moment, duration), default and choices.",
        'ask span "For how long?"\n  kind     duration\n  default  45 minutes',
    ),
    Entry("let", "line", "Gives a value a name.", "let whole = if Begin is empty then Visit-date"),
    Entry(
        "if",
        "line",
        "Does what stands below it where a condition holds; else if and else follow at its depth.",
        'if Begin is empty\n  stop\nelse\n  change row\n    Answer  "later"',
    ),
    Entry(
        "for each",
        "line",
        "Repeats what stands below it for each element. One that fails does not stop the others; the run ends failed.",
        "for each name in split(Observers)\n  add row to log\n    What  name",
    ),
    Entry(
        "if it fails",
        "line",
        "Belongs to the step directly above, at its depth. The run goes on and counts as done "
        "unless the block says fail. In it, reason is the message.",
        'if it fails\n  fail "no slot: {reason}"',
    ),
    Entry(
        "if anything fails",
        "line",
        "Once, last, at the left edge: runs when the run has failed. The run stays failed.",
        'if anything fails\n  change row\n    Answer  "not granted: {reason}"',
    ),
    Entry("stop", "line", "Ends the run well.", "stop"),
    Entry("fail", "line", "Ends the run as failed.", 'fail "There is no visit {Visit}"'),
    Entry(
        "text",
        "value",
        'In quotes, with any value in braces. Empty is nothing. """ blocks lose their common indent; a '
        'list alone on a line repeats that line. The escapes are \\" \\\\ and \\{.',
        '"{Target} with {Instrument}"',
    ),
    Entry("number", "value", "Digits, with a point for parts. + - * / with blanks around the minus.", "2.5 * 3"),
    Entry("yes, no, empty, none", "value", "The two answers; nothing at all.", "busy no"),
    Entry(
        "date, time, moment",
        "value",
        "Year first; 24 hours. today, tomorrow and now follow the moment of the occurrence. "
        'DATE at TIME joins two. as date, as time, as "EEE d MMM HH:mm" (CLDR patterns), of a number as "0.0"; '
        'in zone "…".',
        'Night-of at From\n2027-03-17 at 21:30\nnow as "d MMMM yyyy"',
    ),
    Entry(
        "duration",
        "value",
        "days, weeks and months count on the calendar; hours and minutes on the clock. end - start is "
        "one; one divided by another is a number.",
        "1 hour 30 minutes\nMinutes minutes",
    ),
    Entry(
        "working days",
        "value",
        "So many days after or before a date or moment, at the same time of day, without weekends and the days-off of "
        "[workspace]. Any number may stand before the words.",
        "event.start - 2 working days\ntoday + Days working days",
    ),
    Entry(
        "list",
        "value",
        "Values with commas between; each NAME in LIST [where CONDITION]: VALUE.",
        "each name in split(Observers): lower(name)",
    ),
    Entry(
        "sort by, top, unique, group",
        "value",
        "Behind a list: sort by FIELD then FIELD falling (what is empty comes last), top NUMBER, unique. group LIST by "
        "FIELD gives groups, each with name and items. Behind each NAME in, a field is written NAME.FIELD or FIELD.",
        "events sort by location then start falling top 5\neach g in group events by location: g.name",
    ),
    Entry(
        "column",
        "value",
        'A column by its heading, blanks and signs as hyphens, without regard to case. column "…" for '
        "one without letters. row.NAME says that the row's is meant.",
        'Night-of\ncolumn "№"\nrow.Day',
    ),
    Entry(
        "condition",
        "value",
        "is, is not, is empty, is filled, is one of, contains, begins with, ends with, like, < <= > >=, "
        "before, after, between … and …, joined by and, or, not; brackets where and and or mix.",
        'Answer is empty and Instrument is one of "wide camera", "spectrograph"',
    ),
    Entry(
        "if … then … else",
        "value",
        "Chooses a value; without else it is empty.",
        'if Pupils > 20 then "Hall" else "Dome"',
    ),
    Entry(
        "… or …",
        "value",
        "The first value that is neither empty nor no. Behind an end, a length counts from the start.",
        'Day at To or 1 hour\nVenue or "Hall"',
    ),
    Entry("count, sum, first, last", "function", "Of a list.", "count(split(Observers))"),
    Entry(
        "join, split",
        "function",
        'A list to a text, and a text to a list; the sign between is ", " or given.',
        'join(split(Observers), " and ")',
    ),
    Entry(
        "lower, upper, round, number, town", "function", "Of one value; round takes the digits too.", "round(Hours, 1)"
    ),
)


def entries(vocabulary: Vocabulary) -> list[Entry]:
    """Everything there is to look up: triggers, steps, then lines, values and functions."""
    found = [
        Entry(each.sentence.shown, "trigger", each.meaning, each.example, each.settings) for each in vocabulary.triggers
    ]
    found += [
        Entry(
            each.sentence.words + (" as NAME" if each.makes else ""),
            "step",
            each.meaning,
            each.example,
            each.fields,
            each.columns_as_fields,
        )
        for each in vocabulary.steps
    ]
    return [*found, *_FIXED]


def find_entries(vocabulary: Vocabulary, words: Sequence[str]) -> list[Entry]:
    """The entries that these words name: whole sentences first, then any that contain them or have such a field."""
    wanted = " ".join(new_sentence(" ".join(words).lower().split()))
    wanted = FIELDS.get(wanted, wanted)
    known = entries(vocabulary)
    exact = [entry for entry in known if entry.name.lower() == wanted or entry.name.lower().startswith(wanted + " ")]
    if exact:
        return exact
    parts = wanted.split()
    close = [e for e in known if all(part in e.name.lower().replace(",", " ").split() for part in parts)]
    return close or [entry for entry in known if any(field.name == wanted for field in entry.fields)]


def render_overview(vocabulary: Vocabulary) -> str:
    """One line an entry."""
    groups: dict[str, list[str]] = {}
    for entry in entries(vocabulary):
        groups.setdefault(entry.kind, []).append(entry.name)
    lines = [
        f"{kind + 's:':<11}{textwrap.fill(' · '.join(names), 88, subsequent_indent=' ' * 11)}"
        for kind, names in groups.items()
    ]
    return "\n".join([*lines, "", "one of them: whenvoca words create event     all of it: whenvoca words --all"])


def render_entry(entry: Entry, width: int = 100) -> str:
    """One entry as text."""
    lines = [
        f"{entry.name}   ({entry.kind})",
        *textwrap.wrap(entry.meaning, width - 2, initial_indent="  ", subsequent_indent="  "),
    ]
    if entry.open_fields:
        lines += ["", "  COLUMN          any value; one line for each column to be written"]
    if entry.fields:
        lines.append("")
        name_width = max(len(field.name) for field in entry.fields) + 2
        for field in entry.fields:
            body = _field_text(field)
            lines += textwrap.wrap(
                body,
                width - 2,
                initial_indent="  " + field.name.ljust(name_width),
                subsequent_indent=" " * (name_width + 2),
            )
    if entry.example:
        lines += ["", *("    " + line for line in entry.example.split("\n"))]
    return "\n".join(lines)


def _field_text(field: FieldDefinition) -> str:
    kind = ", ".join(field.choices) if field.choices else _TYPES[field.type]
    default = f" Default: {field.default}." if field.default else ""
    example = f" Such as: {field.example}" if field.example else ""
    return f"{field.meaning} Takes {kind}.{default}{example}"


def render_page(vocabulary: Vocabulary) -> str:
    """The whole reference as a Markdown page."""
    lines = ["# The workflow language", "", "Generated by `whenvoca words`; do not edit.", ""]
    titles = {
        "trigger": "Triggers",
        "step": "Steps",
        "setting": "Settings above the trigger",
        "line": "Lines",
        "value": "Values",
        "function": "Functions",
    }
    for kind, title in titles.items():
        lines += [f"## {title}", ""]
        for entry in entries(vocabulary):
            if entry.kind != kind:
                continue
            lines += [f"### `{entry.name}`", "", entry.meaning, ""]
            if entry.open_fields:
                lines += ["Its fields are the columns to be written, one a line.", ""]
            if entry.fields:
                lines += ["| field | takes | meaning | default |", "| --- | --- | --- | --- |"]
                for field in entry.fields:
                    kinds = ", ".join(field.choices) if field.choices else _TYPES[field.type]
                    lines.append(f"| `{field.name}` | {kinds} | {field.meaning} | {field.default} |")
                lines.append("")
            if entry.example:
                lines += ["```", entry.example, "```", ""]
    return "\n".join(lines).rstrip() + "\n"
