"""The step `read fields from TEXT`: labelled lines of an email or a message, each value read as its kind."""

from __future__ import annotations

import re
from collections.abc import Mapping
from datetime import datetime
from typing import Any

from whenvoca.engine.acting.keyed import Acting
from whenvoca.engine.acting.questions import Question, read_answer
from whenvoca.engine.acting.step_call import StepCall
from whenvoca.engine.conversing.memory import surroundings
from whenvoca.engine.things.email import EmailThing
from whenvoca.errors import RequestFault, RowFault
from whenvoca.language.definitions import Sentence, StepDefinition, column_word
from whenvoca.language.names import fold_name, untyped
from whenvoca.places.mail.labelled import labelled
from whenvoca.speech.moments import moment_in
from whenvoca.speech.request import Surroundings
from whenvoca.values.addresses import split_addresses, to_address
from whenvoca.values.kinds import is_empty
from whenvoca.values.texts import show_value

_NUMBER = re.compile(
    r"(?:about |approx\.? |ca\.? |around |some )?([-+]?\d[\d., ]*)(?![\w:])(?:\s*[^\d\s].*)?", re.DOTALL
)
_LONGEST = 60  # signs of a value in a message


class ReadFields:
    """What was read, by the names that stand below the step."""

    def __init__(self, values: Mapping[str, Any]) -> None:
        self._values = values

    def where_is(self, word: str) -> str:
        """Which of its fields."""
        return f"what was read as {word}"

    def value_of(self, word: str) -> Any:
        """The field's value, None for one that may be missing. Raises KeyError for a name that is none of them."""
        return self._values[word]


def _act(call: StepCall) -> Acting:
    yield from ()
    said = {fold_name(column_word(label)): value for label, value in labelled(show_value(call.sentence_value)).items()}
    values: dict[str, Any] = {}
    faults: list[str] = []
    for word, kind, may_miss in call.kinds:
        text = said.get(fold_name(word), "")
        values[fold_name(word)] = None
        if is_empty(text):
            faults += [] if may_miss else [f"{word} is missing"]
            continue
        try:
            values[fold_name(word)] = _read(call, word, kind, text)
        except RequestFault as fault:
            faults.append(fault.message)
    if faults:
        raise RowFault("; ".join(faults))
    return ReadFields(values)


def _read(call: StepCall, word: str, kind: str, text: str) -> Any:
    """The value of a text. Raises RequestFault."""
    short = text if len(text) <= _LONGEST else text[: _LONGEST - 1] + "…"
    if kind in ("address", "addresses"):
        found = [to_address(call.people.to_address(piece)) for piece in split_addresses(text)]
        if not found or not all(found) or (kind == "address" and len(found) != 1):
            raise RequestFault(f'{word}: "{short}" is no email address')
        return found if kind == "addresses" else found[0]
    if kind == "number" and (number := _NUMBER.fullmatch(text.strip())):
        text = number[1].rstrip(" .,")
    zone, dates = call.scope.zone, call.stage.workspace.dates
    try:
        return read_answer(Question(word, "", kind), text, zone, dates)
    except RequestFault:
        if (value := _in_words(call, kind, text)) is not None:
            return value
        raise RequestFault(f'{word}: "{short}" is no {kind}') from None


def _in_words(call: StepCall, kind: str, text: str) -> Any:
    """A day or a time as people say it: next tuesday, half past ten. None where it is not sure."""
    return moment_in(text, around(call), kind) if kind in ("date", "time", "moment") else None  # type: ignore[arg-type]


def around(call: StepCall) -> Surroundings:
    """What a text is read among: relative days count from when the email was sent, else from the run's moment."""
    sent = call.subject.value_of("sent") if isinstance(call.subject, EmailThing) else None
    now: datetime = sent or call.now
    return surroundings(call.stage.workspace, now, call.scope.zone, ())


READ_FIELDS = StepDefinition(
    sentence=Sentence("read fields from TEXT"),
    meaning="Reads labelled lines (School: Quay School), in any order, also as a table with two columns, and values "
    "that run over several lines. Below it stands a line for each field: the label, with hyphens for its blanks, and "
    "the kind of its value: text, list, number, yes/no, date, time, moment, duration, address or addresses; or empty "
    "behind it where it may be missing. If one is missing or is not of its kind the step fails, and names each. Days "
    "such as next tuesday count from when the email was sent.",
    kinds_as_fields=True,
    reads_only=True,
    makes=untyped,
    value_type="text",
    example="read fields from email.new-text as wish\n  School  text\n  Day     date\n  Time    time\n"
    "  Pupils  number or empty",
    act=_act,
)
