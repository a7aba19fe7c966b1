"""Slips that beginners make inside a value, and how what they meant is written."""

from __future__ import annotations

import re
from collections.abc import Container

from whenvoca.language import tree
from whenvoca.language.types import Type

# Signs of other notations, the longer ones first: what they are, and how that is written here.
_SIGNS = {
    "==": "equality is written: is",
    "!=": "written: is not",
    "<>": "written: is not",
    "=>": "written: >=",
    "=<": "written: <=",
    "&&": "written: and",
    "||": "written: or",
    "=": "equality is written: is",
    "!": "written: not",
    "&": "written: and; texts are joined in braces: {A} {B}",
    "|": "written: or",
    "{": "braces stand inside quotes only; outside, a column is its bare name",
    "[": "a column is its bare name, without brackets",
    "'": 'texts stand in "…"',
    "%": "a column is its bare name",
    "$": "a column is its bare name",
    ";": "each thing stands on a line of its own",
    "#": "",
}
_FIRST_SIGNS = frozenset(sign[0] for sign in _SIGNS)
_UNITS = {"h": "hour", "hr": "hour", "hrs": "hour", "m": "minute", "min": "minute", "mins": "minute", "d": "day"}
_UNITS |= {"w": "week", "wk": "week", "s": "second", "sec": "second", "day": "day", "days": "day"}
# Words that no workflow knows, with what they mean.
_WORDS = {
    **dict.fromkeys(("null", "nil", "nothing", "blank", "void", "missing"), "what has no value is: empty"),
    **dict.fromkeys(("true", "on"), "written: yes"),
    **dict.fromkeys(("false", "off"), "written: no"),
    **{word: f'it is a text: happened is "{word}"' for word in ("gained", "changed", "lost")},
}
_JOINS = {
    "then": "the steps of an if stand on the lines below it, indented; then is for values: if A then B else C",
    "equals": "written: is",
    "does": 'written: not Name contains "…"',
    "doesn": 'written: not Name contains "…"',
    "includes": "written: contains",
    "starts": 'written: begins with "…"',
    "exists": "written: is filled",
    "not": "written: is not",
    "than": "written: > 5, < 5",
    "am": "times have 24 hours: 09:00",
    "pm": "times have 24 hours: 17:00",
    "o": "times are written: 17:00",
}


def sign_slip(text: str, position: int) -> tuple[int, str, str] | None:
    """How long a slip is that begins at a sign there, what is wrong and how it is written; None where the sign may
    mean something."""
    if text[position] not in _FIRST_SIGNS:
        return None
    rest = text[position:]
    if found := re.match(r"'([^']*)'", rest):
        return found.end(), f"texts stand in double quotes, and {found[0]} in single ones", f'written: "{found[1]}"'
    if found := re.match(r"\[+\s*([^\[\]]+?)\s*\]+", rest):
        name = re.sub(r"[\W_]+", "-", found[1]).strip("-")
        return found.end(), "the sign [ means nothing here", f"a column is written without brackets: {name}"
    if found := re.match(r"\{+\s*([^{}]+?)\s*\}+", rest):
        return found.end(), "braces stand inside quotes only", f"one pair in a text, none outside it: {found[1]}"
    if found := re.match(r"\{\s*([^{}]+?)\s*$", rest):
        return found.end(), "braces within braces", f"one pair is enough: {{{found[1]}}}"
    for sign, fix in _SIGNS.items():
        if rest.startswith(sign):
            return len(sign), f"the sign {sign} means nothing here", fix
    return None


def odd_word_slip(word: str) -> str:
    """How a word that begins with a digit and is nothing is written: 5pm, 1h, 17.03.2027."""
    lower = word.lower().strip(".,")
    if found := re.fullmatch(r"(\d{1,2})[.:]?(\d{2})?(am|pm)", lower):
        hour = int(found[1]) % 12 + 12 * (found[3] == "pm")
        return f"times have 24 hours: {hour:02}:{found[2] or '00'}"
    if found := re.fullmatch(r"(\d{1,2})h(\d{2})", lower):
        return f"a time is written {int(found[1]):02}:{found[2]}, a length {found[1]} hours {int(found[2])} minutes"
    if (found := re.fullmatch(r"(\d+(?:\.\d+)?)([a-z]+)", lower)) and found[2] in _UNITS:
        return f"a length is written: {found[1]} {_UNITS[found[2]]}{'s' if found[1] != '1' else ''}"
    if found := re.fullmatch(r"(\d{1,2})[.-](\d{1,2})[.-](\d{4})", lower):
        first, second = int(found[1]), int(found[2])
        day, month = (second, first) if second > 12 else (first, second)
        return f"dates are written year first: {found[3]}-{month:02}-{day:02}"
    if found := re.fullmatch(r"(\d{4})[.-](\d{1,2})[.-](\d{1,2})", lower):
        return f"dates are written with two digits each: {found[1]}-{int(found[2]):02}-{int(found[3]):02}"
    if not re.search(r"[-:.]", word) and not re.fullmatch(r"\d+[a-z]{1,3}", word):
        return f'a column of that name is written column "{word}"'
    return "leave a blank between a number and its unit, and on both sides of a minus"


def side_by_side(first: str, second: str) -> tuple[str, str]:
    """What is wrong with a name right behind another one, and how what they may mean is written."""
    if fix := _JOINS.get(second.lower()):
        return f'"{second}" does not belong here', fix.replace("Name", first)
    said = f'two names side by side: "{first}" and "{second}"'
    is_joined = f"a date with its time: {first} at {second}; " if len(second) > 3 else ""
    return said, f'one column: {first}-{second}; {is_joined}a text: "{first} {second}"'


def unknown_word(word: str, people: Container[str]) -> str:
    """How a bare word is written that is neither a name nor a word of the language; empty where nobody knows."""
    if word.lower() in people:
        return f'a name from [people] stands in quotes: "{word}"'
    return _WORDS.get(word.lower(), "")


def as_text(word: str) -> str:
    """How a word is written that may be meant as a text."""
    return f'a text stands in quotes: "{word}"'


def other_type(node: tree.Node, given: Type, wanted: Type) -> str:
    """How a value of one type is made, or written, as the other that is wanted; empty where nobody knows."""
    text = tree.plain_text(node)
    if text is not None and wanted.name in ("moment", "date", "time", "number", "duration", "yes-no"):
        if found := re.fullmatch(r"(\d{4}-\d\d-\d\d)[ T](\d\d:\d\d)(:\d\d)?", text.strip()):
            return f"written without quotes: {found[1]} at {found[2]}"
        return f"written without quotes: {text}" if re.match(r"[\d-]", text) else ""
    if isinstance(node, tree.Sum) and node.sign == "/" and wanted.name in ("moment", "date"):
        return "dates are written year first: 2027-03-17"
    if isinstance(node, tree.Literal) and given.name == "number":
        number = str(node.value)
        if wanted.name == "duration":
            return f"with its unit: {number} minutes"
        if wanted.name == "time" and re.fullmatch(r"\d{1,2}(\.\d{1,2})?", number):
            hour, _, minute = number.partition(".")
            return f"times are written: {int(hour):02}:{minute.ljust(2, '0') if minute else '00'}"
    if wanted.name == "list" and given.name == "text":
        return f"a text becomes a list by: split({tree.written(node) or '…'})"
    fixes = {
        ("moment", "date"): "its date is: … as date",
        ("moment", "time"): "its time is: … as time",
        ("date", "time"): "give a column or value that holds a time",
        ("time", "moment"): 'join it with a date: "Day at Begin"',
    }
    if given.name == "duration" and wanted.name == "date" and isinstance(node, tree.Span):
        return "put brackets around the sum before at"
    return fixes.get((given.name, wanted.name), "")


def sum_slip(node: tree.Sum, left: Type, right: Type) -> str:
    """How two values are joined that cannot be added."""
    if left.name == right.name == "text" and node.sign == "+":
        return 'texts are joined in braces: "{A} {B}"'
    if left.name == "date" and right.name == "time":
        return (
            f"a date and its time are joined by at: {tree.written(node.left) or 'Day'} at "
            f"{tree.written(node.right) or 'Begin'}"
        )
    return 'join the time with a date first: "Day at Begin + 2 hours"' if left.name == "time" else ""
