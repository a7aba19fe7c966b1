"""Times of day, stretches between two of them, ends and lengths in a text; each reading beside the others."""

from __future__ import annotations

import re

from msgspec import Struct

from whenvoca.speech.chart.piece import Piece, longest, read_forms
from whenvoca.speech.chart.tokens import Text

PARTS = {
    "morning": (6, 12), "afternoon": (12, 18), "evening": (18, 22), "night": (18, 28), "lunch": (12, 14),
    "lunchtime": (12, 14),
}  # fmt: skip
_NUMBER = r"(?:[2-5]0 [1-9]|\d{1,2})"
_MARK = r"(?P<mark>[ap]\.? ?m\b\.?|[ap]\b)"
_LEAD = r"(?:(?P<lead>at about|at around|about|around|at|from|by|@|for|starting at|starts at|start at|starts|start|before|after|to|until|circa|hour|hours|kick off|say) )?"
_TAIL = r"(?: ?(?:sharp|ish|-ish|on the dot|prompt|hrs|uhr))?"


class Clock(Struct, frozen=True):
    """A time of day. ``is_open``: am or pm is not said, and the hour fits both; ``lead`` is the word before it."""

    hour: int
    minute: int = 0
    is_open: bool = False
    lead: str = ""
    part: str = ""

    @property
    def minutes(self) -> int:
        """Since midnight."""
        return self.hour * 60 + self.minute


class Stretch(Struct, frozen=True):
    """From one time of day to another one."""

    begin: Clock
    end: Clock
    lead: str = ""


class Length(Struct, frozen=True):
    """A length: minutes on the clock, days on the calendar."""

    minutes: int = 0
    days: int = 0
    months: int = 0


def _marked(hour: int, minute: int, mark: str | None, *, is_24: bool = False, lead: str = "") -> Clock | None:
    if hour > 24 or minute > 59 or (hour == 24 and minute):
        return None
    if mark:
        if not 1 <= hour <= 12:
            return None if hour > 23 or mark[0] == "a" else Clock(hour, minute, lead=lead)
        return Clock(hour % 12 + 12 * (mark[0] == "p"), minute, lead=lead)
    return Clock(hour % 24, minute, 1 <= hour <= 12 and not is_24, lead)


def _lead(match: re.Match[str]) -> str:
    return (match.groupdict().get("lead") or "").split(" ")[0]


def _number(text: str) -> int:
    return sum(int(each) for each in text.split())


def _digits(match: re.Match[str]) -> Clock | None:
    text = match["h"]
    return _marked(
        int(text[:-2]), int(text[-2:]), match["mark"], is_24=len(text) == 4 and text[0] == "0", lead=_lead(match)
    )


def _spoken(match: re.Match[str]) -> Clock | None:
    said = match["m"]
    minutes = 30 if said.startswith("half") else 15 if "quarter" in said else _number(said.split(" minutes")[0])
    hour = {"noon": 12, "midnight": 24}.get(match["h"]) or int(match["h"])
    if not 1 <= hour <= 24 or minutes > 59:
        return None
    total = hour * 60 + (-minutes if match["way"] == "to" else minutes)
    mark = match["mark"]
    return _marked(total // 60 % 24 or (12 if hour in (1, 12) else 0), total % 60, mark, lead=_lead(match))


_FORMS = {
    "hour and minutes": (
        rf"{_LEAD}(?P<h>\d{{1,2}})(?P<sep>[:.]|h|;)(?P<m>\d{{2}})(?!\d|[./]\d)(?: ?{_MARK})?(?: ?h(?:ours)?\b)?{_TAIL}",
        lambda m: _marked(int(m["h"]), int(m["m"]), m["mark"], is_24=m["h"][0] == "0" and len(m["h"]) == 2, lead=_lead(m)),
    ),
    "am or pm": (
        rf"{_LEAD}(?P<h>\d{{1,2}}) ?{_MARK}{_TAIL}",
        lambda m: _marked(_number(m["h"]), 0, m["mark"], lead=_lead(m)),
    ),
    "hour minutes am or pm": (
        rf"{_LEAD}(?P<h>1?\d) (?P<m>[0-5]\d|o \d|[2-5]0 [1-9]|[2-5]0) ?{_MARK}{_TAIL}",
        lambda m: _marked(int(m["h"]), _number(m["m"].removeprefix("o ")), m["mark"], lead=_lead(m)),
    ),
    "hour minutes": (
        rf"{_LEAD}(?P<h>1?\d|2[0-3]) (?P<m>o \d|[2-5]0 [1-9]|[1-5][05]|oh \d)(?! ?(?:minutes|hours?|days?|weeks?|people|\d|%|[.:/]\d))",
        lambda m: _marked(int(m["h"]), _number(m["m"].removeprefix("o ").removeprefix("oh ")), None, lead=_lead(m)),
    ),
    "digits": (
        rf"{_LEAD}(?P<h>(?:[01]?\d|2[0-3])[0-5]\d) ?{_MARK}{_TAIL}",
        _digits,
    ),
    "bare digits": (
        rf"{_LEAD}(?P<h>(?:[01]?\d|2[0-3])[0-5]\d)(?P<mark>\b)(?: ?(?P<hrs>hours|h\b|hrs))?{_TAIL}(?![/.:]\d)",
        lambda m: _digits_bare(m),
    ),
    "hours": (
        rf"{_LEAD}(?P<h>\d{{1,2}}) ?(?:h\b|hours?\b|uhr)(?: (?:and )?(?P<m>[0-5]?\d)(?: minutes)?)?(?! and)",
        lambda m: _marked(int(m["h"]), int(m["m"] or 0), None, lead=_lead(m)) if int(m["h"]) >= 7 or _lead(m) in ("at", "hour", "from") else None,
    ),
    "o'clock": (
        rf"{_LEAD}(?P<h>\d{{1,2}}) ?o'?clock(?: {_MARK})?",
        lambda m: _marked(int(m["h"]), 0, m["mark"], lead=_lead(m)),
    ),
    "spoken": (
        (
            rf"{_LEAD}(?P<m>half|(?:an? )?quarter|(?:5|10|20|25|20 5)(?: minutes)?|\d\d? minutes) (?P<way>past|to|after) (?P<h>\d{{1,2}}|noon|midnight)"
            rf"(?: ?{_MARK}| o'clock)?(?![:.]\d)"
        ),
        _spoken,
    ),
    "half": (
        rf"{_LEAD}half[- ](?P<h>\d{{1,2}})(?![:.]?\d| minutes| hours?| days?)(?: ?{_MARK})?",
        lambda m: _marked(int(m["h"]), 30, m["mark"], lead=_lead(m)) if int(m["h"]) <= 12 else None,
    ),
    "and half": (
        rf"{_LEAD}(?P<h>\d{{1,2}}) (?:and )?(?:a )?half(?! hours?| an?)",
        lambda m: _marked(int(m["h"]), 30, None, lead=_lead(m)) if 1 <= int(m["h"]) <= 23 and _lead(m) in ("at", "from", "to", "until", "by") else None,
    ),
    "named": (
        rf"{_LEAD}(?:around |the )?(?P<n>noon|midnight|1st thing(?: in the morning)?|end of play|close of play|end of business|close of business|lunchtime|breakfast time|dinner time|tea time|teatime)",
        lambda m: _named(m["n"], _lead(m)),
    ),
    "led": (
        rf"(?P<lead>at about|at around|about|around|at|@|from|by|until|to|before|after|for|-|say|between|start|starts|hour|now|kick off|is|make it|not|instead of|like) (?P<h>{_NUMBER})(?: ?-?ish)?(?![:.h/]?\d|st\b|nd\b|rd\b|th\b)(?! ?(?:minutes|hours?|days?|weeks?|months?|people|times|%|€|o'clock|[ap]m|years?|-year|\w+s\b(?<!hours)))",
        lambda m: _marked(_number(m["h"]), 0, None, lead=_lead(m)) if _number(m["h"]) <= 24 else None,
    ),
    "bare": (
        r"(?P<h>1?\d|2[0-4]|20 [1-4])(?: ?-?ish)?(?![:.h/]\d|\d|st\b|nd\b|rd\b|th\b|[/:])(?! ?(?:minutes|hours?|days?|weeks?|months?|people|times|%|€|o'clock|[ap]m))",
        lambda m: _marked(_number(m["h"]), 0, None) if 1 <= _number(m["h"]) <= 24 else None,
    ),
}  # fmt: skip


def _digits_bare(match: re.Match[str]) -> Clock | None:
    text = match["h"]
    hour, minute = int(text[:-2]), int(text[-2:])
    is_year = 1900 <= int(text) < 2100 and minute % 5 and not match["hrs"]
    return (
        None if is_year else _marked(hour, minute, None, is_24=text[0] == "0" or bool(match["hrs"]), lead=_lead(match))
    )


def _named(name: str, lead: str) -> Clock | None:
    hours = {
        "noon": 12,
        "midnight": 0,
        "lunchtime": 12,
        "breakfast time": 8,
        "dinner time": 19,
        "tea time": 17,
        "teatime": 17,
    }
    if name.startswith("1st thing"):
        return Clock(9, lead=lead)
    return Clock(hours.get(name, 17), lead=lead)


def settled(clock: Clock, part: str) -> Clock:
    """A time of day in a part of the day: 10 at night, 4 in the morning."""
    hour = clock.hour
    if not clock.is_open:
        return clock
    if part == "morning":
        hour = hour % 12
    elif part in ("night", "evening"):
        hour = hour if part == "night" and hour <= 4 else hour % 12 + 12 if hour != 12 else 0
    elif part:
        hour = hour % 12 + 12 if part == "afternoon" or hour < 4 else hour
    return Clock(hour, clock.minute, is_open=False, lead=clock.lead, part=part)


def read_clocks(text: Text) -> list[Piece[Clock]]:
    """All times of day, with a part of the day behind them; a number alone only where nothing longer reads it."""
    forms = [each for each in read_forms(text, _FORMS) if not _is_pronoun(text, each) and not _is_range(text, each)]
    found = longest(forms)
    parts = {each.begin: each for each in read_parts(text)}
    clocks = []
    for each in found:
        part = parts.get(each.end) or (parts.get(each.end + 1) if text.lows[each.end : each.end + 1] == [","] else None)
        if part is not None and text.lows[part.begin] != "this":
            each = Piece(each.begin, part.end, settled(each.value, part.value), each.form)
        clocks.append(each)
    return clocks


_BEFORE_ONE = frozenset("that this the last 1st 2nd 3rd other next which no any every each new only".split())


def _is_pronoun(text: Text, piece: Piece[Clock]) -> bool:
    """Whether it is the one of "that one", no hour."""
    last = text.tokens[piece.end - 1]
    return last.text.lower() == "one" and piece.end > 1 and text.lows[piece.end - 2] in _BEFORE_ONE


def _is_range(text: Text, piece: Piece[Clock]) -> bool:
    """Whether "10 to 12" is a stretch: in digits, or led by from, it is no ten minutes to twelve."""
    tokens = text.tokens[piece.begin : piece.end]
    lows = [token.low for token in tokens]
    if piece.form != "spoken" or "to" not in lows or {"minutes", "quarter"} & set(lows):
        return False
    return lows[0] == "from" or tokens[max(lows.index("to") - 1, 0)].text.isdecimal()


_MOST = 80  # times that are paired
_TO = ("-", "to", "until", "->")


def read_stretches(text: Text, clocks: list[Piece[Clock]]) -> list[Piece[Stretch]]:
    """Two times with a dash, to, until, or between and and."""
    taken = {each.begin for each in clocks}
    bare = [each for each in _bare_at(text) if each.begin not in taken]
    found: dict[tuple[int, int], Piece[Stretch]] = {}
    every = [*clocks, *bare][:_MOST]
    for one in every:
        between = one.value.lead == "between" or text.lows[one.begin - 1 : one.begin] == ["between"]
        for other in every:
            if other.begin < one.end:
                continue
            said = " ".join(text.lows[one.end : other.begin])
            said = re.sub(r"^, | ?(about|around|at|say|maybe|like|ends|ending)$", "", said)
            if other.value.lead in _TO and said in ("", "and", "right", "up"):
                said = "to"
            is_joined = said in (*_TO, "up to", "right until", "- until") or (said == "and" and between)
            if not is_joined or (one in bare and other in bare and not between and said == "and"):
                continue
            stretch = _joined(one.value, other.value)
            if stretch is not None:
                begin = one.begin - (between and one.value.lead != "between")
                found[begin, other.end] = Piece(begin, other.end, stretch, "stretch")
    return longest(found.values())


def _bare_at(text: Text) -> list[Piece[Clock]]:
    """Numbers by themselves, as the second or first half of a stretch."""
    found = []
    for i, low in enumerate(text.lows):
        is_number = low.isdecimal() and len(low) <= 2 and 0 <= int(low) <= 24
        is_cut = (
            text.is_glued(i + 1)
            and text.lows[i + 1][0] in ":./h0123456789"
            and i + 2 < len(text.lows)
            and text.is_glued(i + 2)
        )
        is_pronoun = text.tokens[i].text.lower() == "one" and i > 0 and text.lows[i - 1] in _BEFORE_ONE
        if is_number and not is_cut and not is_pronoun:
            found.append(Piece(i, i + 1, Clock(int(low) % 24, 0, 1 <= int(low) <= 12), "bare"))
    return found


def _joined(one: Clock, other: Clock) -> Stretch | None:
    """Both ends settled by each other: 2-4pm, 9-1, half 10 to noon."""
    low, high = one, other
    if one.is_open and not other.is_open and other.hour >= 12 and one.hour != 12:
        later = Clock(one.hour + 12, one.minute, lead=one.lead)
        if later.minutes < other.minutes:
            low = later
        elif one.minutes < other.minutes:
            low = Clock(one.hour, one.minute, lead=one.lead)
    elif other.is_open and not one.is_open:
        later = Clock(other.hour % 12 + 12, other.minute)
        if other.minutes <= one.minutes and later.minutes > one.minutes:
            high = later
        elif other.minutes > one.minutes:
            high = Clock(other.hour, other.minute)
    return Stretch(low, high, one.lead) if (low.hour, low.minute) != (high.hour, high.minute) else None


# --- lengths

_COUNT = r"(?P<n>\d+(?:[.,]\d+)?|an?|half an?|half|a couple of|couple of|couple|quarter of an|a quarter of an|three quarters of an|3 quarters of an|3/4 of an|3/4|1/2|a half)"
_LENGTHS = {
    "length": (
        r"(?P<lead>for about |for |about |lasts |lasting |takes |allow |duration (?:of )?|length |of |by |over )?(?P<n>[2-5]0 [1-9]|\d+(?:[.,]\d+)?)(?P<half>½| 1/2)?[ -]?(?P<u>minutes|m|hours?|h|days?|weeks?|months?|fortnights?|nights?)(?: ?(?:and )?(?P<extra>a half|half|quarter|a quarter|[2-5]0 [1-9]|\d\d?)(?: ?(?P<xu>minutes|m))?)?(?: long)?(?![a-z])",
        lambda m: _length(m),
    ),
    "worded length": (
        r"(?P<lead>for about |for |about |lasts |lasting |takes |allow |of |by )?(?:(?P<three>3|three) quarters of an hour|(?P<q>(?:a )?quarter of an hour|a quarter hour)|(?P<hh>(?:a )?half(?: an| a)? hour|1/2 (?:an )?hour|½ hour)|(?P<one>an|a|1|another) (?P<u>hour|day|week|fortnight|month|minutes)(?P<plus> and (?:a )?half| and (?:a )?quarter)?|(?P<c>(?:a )?couple of|a few) (?P<u2>minutes|hours|days|weeks|months))(?: long)?",
        lambda m: _worded(m),
    ),
    "number and a half": (
        r"(?P<lead>for )?(?P<n>\d+) and a half (?P<u>hours?|days?)",
        lambda m: Length(minutes=int(m["n"]) * 60 + 30) if m["u"].startswith("h") else None,
    ),
    "for a number": (
        r"(?P<lead>for )(?P<n>[1-9]5|[1-9]0|1[02]0|[2-5]0 [1-9])(?![:.]\d| ?(?:people|persons?|guests?|kids|children|visitors|pupils|minutes|hours?|days|weeks|months|years|%|€|am|pm|of)(?![a-z]))",
        lambda m: Length(minutes=_number(m["n"])),
    ),
}  # fmt: skip


def _length(match: re.Match[str]) -> Length | None:
    number = sum(float(each.replace(",", ".")) for each in match["n"].split())
    number += 0.5 if match["half"] else 0
    unit = match["u"].rstrip("s") if match["u"] not in ("m", "h") else match["u"]
    extra = match["extra"] or ""
    if number > 5000 or (match["u"].startswith("h") and number > 72):
        return None
    if unit in ("minute", "m"):
        return Length(minutes=round(number)) if not extra else None
    if unit in ("hour", "h"):
        more = {"a half": 30, "half": 30, "quarter": 15, "a quarter": 15, "": 0}.get(extra)
        more = _number(extra) if more is None else more
        return Length(minutes=round(number * 60) + more) if more < 60 else None
    if extra and "half" not in extra:
        return None
    if unit in ("day", "night"):
        return Length(days=int(number)) if number == int(number) else Length(minutes=round(number * 1440))
    if unit == "month":
        return Length(months=int(number))
    return Length(days=round(number * (14 if unit == "fortnight" else 7)))


def _worded(match: re.Match[str]) -> Length:
    if match["three"]:
        return Length(minutes=45)
    if match["q"]:
        return Length(minutes=15)
    if match["hh"]:
        return Length(minutes=30)
    count, unit = (1, match["u"]) if match["u"] else (3 if "few" in match["c"] else 2, match["u2"].rstrip("s"))
    plus = match["plus"] or ""
    unit = unit.rstrip("s")
    if unit == "hour":
        return Length(minutes=60 * count + (30 if "half" in plus else 15 if plus else 0))
    return {"minute": Length(minutes=count), "day": Length(days=count), "month": Length(months=count)}.get(
        unit, Length(days=count * (14 if unit == "fortnight" else 7))
    )


_RELATIVE = {
    "in a length": (r"in (?:about )?(?P<n>\d+|an?|half an) (?P<u>minutes|hours?)(?P<half> and a half)?(?: (?:time|from now))?|(?P<n2>\d+|an?|half an) (?P<u2>minutes|hours?) from now", lambda m: _relative(m)),
}  # fmt: skip


def _relative(match: re.Match[str]) -> int:
    number, unit = match["n"] or match["n2"], match["u"] or match["u2"]
    count = {"a": 1.0, "an": 1.0, "half an": 0.5}.get(number) or float(number)
    minutes = count * (60 if unit.startswith("hour") else 1)
    return round(minutes + (30 if match["half"] and unit.startswith("hour") else 0))


def read_relatives(text: Text) -> list[Piece[int]]:
    """Minutes from now on."""
    return longest(read_forms(text, _RELATIVE))


def read_lengths(text: Text) -> list[Piece[Length]]:
    """All lengths."""
    return longest(read_forms(text, _LENGTHS))


_PART = re.compile(
    r"(?:(?:in|during|at|of|this) )?(?:the )?(?P<p>morning|afternoon|evening|night|lunch time|lunchtime)(?:s)?(?: time)?"
)


def read_parts(text: Text) -> list[Piece[str]]:
    """Parts of the day by themselves."""
    return [Piece(begin, end, match["p"].replace(" ", ""), "part") for begin, end, match in text.find(_PART)]
