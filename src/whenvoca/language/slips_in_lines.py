"""Slips that beginners make in whole lines: steps, triggers and fields in other words, and lines that are none."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence

from msgspec.structs import replace

from whenvoca.language import tree
from whenvoca.language.definitions import StepDefinition, TriggerDefinition, Vocabulary, match_sentence
from whenvoca.language.faults import FaultList, Spot
from whenvoca.language.lines import Line

STATEMENTS = ("if", "else", "for", "let", "ask", "stop", "fail", "when")  # what lines begin with that are no steps
_REMARKS = ("//", "--", "/*", "*")
_ENDINGS = ("end", "endif", "fi", "done", "}", "{", "begin", "next", "end if", "end for", "endfor", "end when", "pass")
_SETTINGS_OF_TRIGGERS = ("where", "fields", "existing", "early", "late", "missed")
# Other verbs for what steps do, by the noun behind them.
_NOUNS = {"appointment": "event", "meeting": "event", "booking": "event", "todo": "task", "line": "row"}
_NOUNS |= {"record": "row", "mail": "email", "e-mail": "email", "events": "event", "rows": "row", "tasks": "task"}
_VERBS: dict[str, dict[str, str]] = {
    "event": dict.fromkeys(("add", "make", "new", "insert", "put", "book", "schedule", "append"), "create"),
    "row": dict.fromkeys(("create", "insert", "append", "new", "put", "write"), "add"),
}
_VERBS["task"] = _VERBS["event"]
_ANY_NOUN = dict.fromkeys(("update", "edit", "modify", "set", "alter"), "change")
_ANY_NOUN |= dict.fromkeys(("remove", "cancel", "erase", "drop", "clear"), "delete")
_ANY_NOUN |= dict.fromkeys(("search", "get", "lookup", "select", "read", "query"), "find")
_ANY_NOUN |= dict.fromkeys(("sync", "copy", "synchronize", "synchronise"), "mirror")
_ARTICLES = ("a", "an", "the", "new")
# Other words for fields.
_FIELDS = {
    "name": ("title", "subject"),
    "subject": ("subject", "title"),
    "summary": ("title",),
    "heading": ("title", "subject"),
    **dict.fromkeys(("date", "when", "begin", "begins", "starts", "from", "day", "time"), ("start", "from", "due")),
    **dict.fromkeys(("finish", "ends", "until", "to", "stop"), ("end", "until", "due")),
    **dict.fromkeys(("duration", "hours", "minutes", "takes"), ("length",)),
    **dict.fromkeys(("where", "place", "venue", "room", "address"), ("location",)),
    **dict.fromkeys(("description", "notes", "note", "comment", "body", "message", "content"), ("details", "text")),
    **dict.fromkeys(("guests", "participants", "people", "who", "invitees", "invited"), ("attendees", "person")),
    **dict.fromkeys(("alert", "notification", "remind", "reminders"), ("reminder",)),
    "color": ("colour",),
    **dict.fromkeys(("recurrence", "recurring", "every", "rule", "repeats"), ("repeat",)),
    **dict.fromkeys(("categories", "tags", "label"), ("category",)),
    **dict.fromkeys(("show-as", "availability", "status"), ("busy",)),
    **dict.fromkeys(("assignee", "owner", "assigned"), ("person",)),
    **dict.fromkeys(("deadline", "by"), ("due",)),
}
_PLACE = r"(?P<place>[\w-]+)"
_ONE = r"(?:an? |any |new |the )*"
_HAPPENED = {
    "gains": r"(?:comes|appears|added|created|appended|inserted|new|entered|submitted)",
    "changes": r"(?:changed|updated|edited|modified)",
    "loses": r"(?:deleted|removed|gone|cancelled)",
}
_SAYS = {
    "gains": r"(?:gains?|gained|gets?|has|receives?|adds?|got)",
    "changes": r"(?:changed?|updates?|edits?|modifies)",
    "loses": r"(?:loses?|lost|deletes?|removes?)",
}
# Other sentences of triggers, with the one that is meant.
_TRIGGERS: list[tuple[str, str]] = [
    *(
        (
            rf"{_ONE}(?P<noun>row|event|task) (?:is |was )?{verbs} (?:to|in|from|of) {_PLACE}",
            f"{{place}} {verb} {{a}} {{noun}}",
        )
        for verb, verbs in _HAPPENED.items()
    ),
    *(
        (rf"{_PLACE} {verbs} {_ONE}(?P<noun>row|event|task)s?", f"{{place}} {verb} {{a}} {{noun}}")
        for verb, verbs in _SAYS.items()
    ),
    (rf"(?:an? )?new (?P<noun>row|event|task) (?:in|on|to|at) {_PLACE}", "{place} gains {a} {noun}"),
    (rf"{_ONE}event (?:in|of) {_PLACE} (?:starts|begins)", "{place} begins an event"),
    (rf"{_PLACE} starts {_ONE}event", "{place} begins an event"),
    (rf"{_ONE}event (?:in|of) {_PLACE} (?:ends|stops)", "{place} ends an event"),
    (rf"{_ONE}message (?:arrives |comes |is sent )?(?:in|to) {_PLACE}", "{place} hears a message"),
    (rf"{_PLACE} (?:receives|gets|gains) {_ONE}message", "{place} hears a message"),
    (rf"{_ONE}task (?:is )?(?:done|finished|completed) in {_PLACE}", "{place} finishes a task"),
    (r"(?:every day )?at (?P<time>\d{1,2}:\d{2})", "clock reads {time}"),
    (r"every day at (?P<time>\d{1,2}:\d{2})", "clock reads {time}"),
    (r"(?:every|on) (?P<days>[a-z, ]+?) at (?P<time>\d{1,2}:\d{2})", "clock reads {time} on {days}"),
    (r"every (?P<span>\d+ (?:minute|hour|day|week)s?)", "clock passes every {span}"),
]


def name_given(code: str) -> str:
    """The name that a line gives though it cannot be read, empty where it gives none: what only follows from the slip
    is not reported."""
    found = re.search(r"\bas\s+([^\W\d][\w-]*)\s*\Z", code) or re.match(
        r"(?:let|ask)\s+([^\W\d][\w-]*)", code, re.IGNORECASE
    )
    return found[1] if found else ""


def remark_slip(code: str) -> tuple[str, str] | None:
    """What is wrong with a remark written as in other notations; None where the line is none."""
    return ("a remark begins with #", f"written: # {code.lstrip('/-* ')}") if code.startswith(_REMARKS) else None


def trigger_slip(code: str, triggers: Sequence[TriggerDefinition]) -> tuple[str, str] | None:
    """What is wrong with a trigger in other words, and how it is written; None where nobody knows."""
    first, sign, rest = code.partition(";")
    if sign and match_sentence(first.split(), triggers)[0] is not None:
        return "two things on one line", f"the trigger is: when {first.strip()}; on a line of its own: {rest.strip()}"
    sentence = other_trigger(code, triggers)
    return (f'there is no trigger "{code}"', f"written: when {sentence}") if sentence and sentence != code else None


def line_slip(code: str, vocabulary: Vocabulary) -> tuple[str, str] | None:
    """What is wrong with a line that is no step, and how what it means is written; None where nobody knows."""
    lower = " ".join(code.lower().split())
    first = lower.split(" ")[0]
    if remark := remark_slip(code):
        return remark
    if lower in _ENDINGS:
        return f'"{code}" is not needed', "a block ends where its indentation ends; leave this line out"
    if first in _SETTINGS_OF_TRIGGERS:
        return f"{first} stands at the left edge", "it belongs to the trigger: indent it below the when line"
    if found := re.match(r"(?:set\s+)?([\w-]+)\s*(?:=|:|\bto\b)\s*(\S.*)", code, re.IGNORECASE):
        name, value = found[1], found[2]
        if re.match(r"set\s|[\w-]+\s*[=:]", code, re.IGNORECASE):
            said = f'"{name}" is set like a variable, and a cell is written by a step'
            return said, f"written: change row, and indented below it: {name}  {value}; a value gets a name by let"
    begun = re.sub(r"^(if|on|whenever)\s+", "", code, flags=re.IGNORECASE)
    if sentence := other_trigger(begun, vocabulary.triggers):
        return "a trigger begins with when", f"written: when {sentence}"
    sentence = other_step(code, vocabulary.steps)
    return (f'there is no step "{code}"', f"written: {sentence}") if sentence else None


def other_step(code: str, steps: Sequence[StepDefinition]) -> str:
    """The step that a line means in other words, as it is written; empty where nobody knows."""
    words = [word for word in code.split() if word.lower() not in _ARTICLES]
    if len(words) < 2:
        return ""
    nouns = [_NOUNS.get(word.lower(), word) for word in words]
    noun = nouns[1].lower()
    verb = words[0].lower()
    verb = _VERBS.get(noun, {}).get(verb, _ANY_NOUN.get(verb, verb))
    rest = nouns[1:]
    for joins in ({}, {"to": "in", "into": "in", "on": "in", "from": "in"}, {"in": "to", "into": "to"}):
        said = [verb, *(joins.get(word.lower(), word) for word in rest)]
        match, _ = match_sentence(said, steps)
        if match is not None and match.length >= len(said) - 2 * ("as" in said):
            return " ".join(said)
    return ""


def other_trigger(code: str, triggers: Sequence[TriggerDefinition]) -> str:
    """The trigger that a line (behind when) means in other words, as it is written; empty where nobody knows."""
    said = " ".join(code.strip().rstrip(":").split())
    if match_sentence(said.split(), triggers)[0] is not None:
        return said
    for pattern, sentence in _TRIGGERS:
        found = re.fullmatch(pattern, said, re.IGNORECASE)
        if found:
            given = {name: value for name, value in found.groupdict().items() if value}
            noun = given.get("noun", "").lower()
            written = sentence.format(**given, a="an" if noun == "event" else "a")
            if match_sentence(re.findall(r"[^\s,]+|,", written), triggers)[0] is not None:
                return written
    return ""


def other_field(word: str, known: Iterable[str]) -> str:
    """The field that a word means which is called otherwise here; empty where nobody knows."""
    names = set(known)
    bare = word.lower().rstrip(":=")
    if bare in names:
        return f"written without the sign behind it: {bare}"
    found = next((name for name in _FIELDS.get(bare, ()) if name in names), "")
    return f"it is called {found} here" if found else ""


def is_field_of(above: tree.Statement, line: Line, vocabulary: Vocabulary) -> bool:
    """Whether a line that is no step is a field of the step above, and only not indented."""
    if not isinstance(above, tree.Step) or match_sentence(line.code.split(), vocabulary.steps)[0] is not None:
        return False
    found = re.match(r"[^\s\"“„]+", line.code)
    word = found[0] if found is not None else None
    if word is None or word.lower() in STATEMENTS or line_slip(line.code, vocabulary) is not None:
        return False
    definition = above.definition
    is_column = definition.columns_as_fields and not any(field.spot.column > line.indent + 1 for field in above.fields)
    return definition.field(word.lower()) is not None or is_column


def without_then(line: Line, faults: FaultList) -> Line:
    """An if line as it would be without `then`, and what stands behind that below it."""
    found = re.search(r"\sthen\b\s*(?P<step>.*)$", line.code, re.IGNORECASE)
    if found is None or '"' in line.code[found.start() :]:
        return line
    spot = Spot(line.number, line.indent + found.start() + 2, 4)
    faults.add(spot, "then does not stand in an if line", "its steps stand on the lines below it, indented")
    code, begin = found["step"], line.indent + found.start("step")
    inline = [replace(line, indent=begin, code=code, children=[])] if code else []
    return replace(line, code=line.code[: found.start()], children=[*inline, *line.children])


def field_word(line: Line, found: re.Match[str], faults: FaultList) -> tuple[str, int]:
    """The word of a field line, and where its value begins; a colon or a sign between them is a fault of its
    own."""
    written = str(found["column"] or found["word"]).rstrip(":=") or found[1]
    between = re.compile(r"(?::=|[:=])?\s*").match(line.code, found.end())
    begin = between.end() if between is not None and not line.code.startswith("==", found.end()) else found.end()
    if written != (found["column"] or found["word"]) or line.code[found.end() : begin].strip():
        sign = Spot(line.number, line.indent + len(found[1]) + 1, max(1, begin - len(found[1])))
        faults.add(sign, "between a field and its value stand blanks alone", f"written: {written}  {line.code[begin:]}")
    return written, begin
