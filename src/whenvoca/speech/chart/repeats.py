"""How often something happens, until when, and what is left out, in a text (RFC 5545 3.3.10)."""

from __future__ import annotations

import re

from msgspec import Struct

from whenvoca.speech.chart.day_values import MONTHS, WD, WEEKDAYS, day_number
from whenvoca.speech.chart.piece import Piece, longest, read_forms
from whenvoca.speech.chart.tokens import Text

CODES = ("MO", "TU", "WE", "TH", "FR", "SA", "SU")
_NTH = r"(?:(?:20|30) [1-9](?:st|nd|rd|th)|[0-3]?\d(?:st|nd|rd|th))"
_LIST = rf"{WD}s?(?:(?:,| and| &| \+|/|, and| or)? ?{WD}s?)*"
_PART = r"(?: (?P<part>morning|afternoon|evening|night|lunchtime)s?)?"
_EVERY = r"(?:(?:on )?(?:every|each)|repeat(?:ing|s|ed)? every)"


class Repetition(Struct, frozen=True):
    """A rule without its end: frequency, interval, and which days."""

    freq: str
    interval: int = 1
    by: str = ""  # BYDAY=… or BYMONTHDAY=…
    part: str = ""

    @property
    def rule(self) -> str:
        """As RFC 5545 has it, without COUNT and UNTIL."""
        parts = [f"FREQ={self.freq}"]
        parts += [f"INTERVAL={self.interval}"] if self.interval > 1 else []
        parts += [self.by] if self.by else []
        return ";".join(parts)


class Limit(Struct, frozen=True):
    """How often at most: a number of times, or of weeks, days, months."""

    count: int
    unit: str = ""


def _days_of(said: str) -> list[int]:
    return sorted({WEEKDAYS.index(each) for each in re.findall(WD, said)})


def _byday(said: str) -> str:
    return f"BYDAY={','.join(CODES[day] for day in _days_of(said))}"


def _interval(said: str | None) -> int:
    if not said:
        return 1
    return 2 if said in ("other", "2nd", "alternate", "second") else day_number(said) or 1


def _nth(said: str) -> int:
    return -1 if said == "last" else day_number(said)


_WORKDAYS = "BYDAY=MO,TU,WE,TH,FR"
_OF_MONTH = (
    r"(?: (?:of|in) (?:every|each|the) month| each month| every month| (?:in|of) the month| monthly| of the month)"
)
_FORMS = {
    "every weekday name": (
        rf"{_EVERY} (?:single )?(?P<i>other |2nd |alternate |3rd |4th )?(?P<d>{_LIST}){_PART}",
        lambda m: Repetition("WEEKLY", _interval((m["i"] or "").strip()), _byday(m["d"]), m["part"] or ""),
    ),
    "alternate": (
        rf"(?:on )?alternate (?:(?P<d>{_LIST}){_PART}|(?P<u>weeks|days|months))",
        lambda m: Repetition("WEEKLY", 2, _byday(m["d"]), m["part"] or "") if m["d"] else Repetition({"weeks": "WEEKLY", "days": "DAILY", "months": "MONTHLY"}[m["u"]], 2),
    ),
    "weekday names": (
        rf"(?:on |all )?(?P<d>{WD}s(?:(?:,| and| &| \+|/)? ?{WD}s)*){_PART}",
        lambda m: Repetition("WEEKLY", 1, _byday(m["d"]), m["part"] or ""),
    ),
    "every unit": (
        rf"{_EVERY} (?:single )?(?P<i>other |2nd |3rd |4th |\d+ )?(?P<u>day|days|week|weeks|month|months|year|years|morning|afternoon|evening|night|weekday|weekdays|working day|workday|fortnight|quarter|weekend)(?:(?:,)? on (?:a |the )?(?P<d>{_LIST}|{_NTH}))?",
        lambda m: _unit(m),
    ),
    "adverb": (
        rf"(?:repeat(?:s|ing)? )?(?P<u>daily|weekly|fortnightly|biweekly|bi-weekly|monthly|yearly|annually|quarterly|2 weekly|2-weekly|once a week|once a month|once a day|q[1-4] ?(?:with|week|weeks)|nightly)(?:(?:,)?(?: on)?(?: a| the)? (?P<d>{_LIST}|{_NTH})(?! (?:of|at) {WD}))?",
        lambda m: _adverb(m),
    ),
    "every day but": (
        r"(?:every day|daily)(?:,)? (?:except|but not|apart from|not) (?:on )?(?:weekends|the weekend|saturdays? (?:and|or) sundays?)|(?:daily|every day),? \(?monday ?(?:to|-|until) ?friday\)?",
        lambda m: Repetition("WEEKLY", 1, _WORKDAYS),
    ),
    "two weekdays of month": (
        rf"(?:on )?(?:the )?(?:every )?(?P<n>1st|2nd|3rd|4th)(?: and |,| & )(?:the )?(?P<n2>2nd|3rd|4th|last) (?P<d>{WD})s?{_OF_MONTH}",
        lambda m: Repetition("MONTHLY", 1, f"BYDAY={_nth(m['n'])}{CODES[WEEKDAYS.index(m['d'])]},{_nth(m['n2'])}{CODES[WEEKDAYS.index(m['d'])]}"),
    ),
    "list interval": (
        rf"(?:on )?(?P<d>{WD}s?),? every (?P<i>other|2nd|\d+) weeks?",
        lambda m: Repetition("WEEKLY", _interval(m["i"]), _byday(m["d"])),
    ),
    "nth weekday": (
        rf"(?:on )?(?:the |every |each )?(?P<n>last|1st|2nd|3rd|4th|5th) (?P<d>{WD}|working day|weekday|day){_OF_MONTH}",
        lambda m: _nth_weekday(m),
    ),
    "every month nth": (
        rf"(?:every|each) month,? (?:on )?(?:the )?(?P<n>last|1st|2nd|3rd|4th|5th) (?P<d>{WD})|monthly,? (?:on )?(?:the )?(?P<n2>last|1st|2nd|3rd|4th|5th) (?P<d2>{WD})",
        lambda m: Repetition("MONTHLY", 1, f"BYDAY={_nth(m['n'] or m['n2'])}{CODES[WEEKDAYS.index(m['d'] or m['d2'])]}"),
    ),
    "day of every month": (
        rf"(?:on |falls on )?(?:the )?(?P<n>{_NTH}){_OF_MONTH}|(?:on )?day (?P<n2>\d+) of (?:every|each) month",
        lambda m: Repetition("MONTHLY", 1, f"BYMONTHDAY={day_number(m['n'] or m['n2'])}"),
    ),
    "every date": (
        rf"every (?P<n>{_NTH})(?: of (?P<m>{'|'.join(MONTHS)}))?",
        lambda m: Repetition("YEARLY") if m["m"] else Repetition("MONTHLY", 1, f"BYMONTHDAY={day_number(m['n'])}"),
    ),
    "weekdays": (
        r"(?:(?:on|at) )?(?:all )?(?P<w>weekdays|weekends|working days|monday ?(?:to|-|until|through) ?friday)",
        lambda m: Repetition("WEEKLY", 1, "BYDAY=SA,SU" if "end" in m["w"] else _WORKDAYS),
    ),
}  # fmt: skip


def _unit(match: re.Match[str]) -> Repetition | None:
    unit, interval = match["u"].rstrip("s"), _interval((match["i"] or "").strip())
    on = match["d"] or ""
    if interval > 60:
        return None
    if unit in ("weekday", "working day", "workday"):
        return Repetition("WEEKLY", 1, _WORKDAYS)
    if unit == "weekend":
        return Repetition("WEEKLY", 1, "BYDAY=SA,SU")
    if unit in ("morning", "afternoon", "evening", "night"):
        return Repetition("DAILY", interval, part=unit)
    if unit in ("week", "fortnight"):
        interval *= 1 + (unit == "fortnight")
        days = _days_of(on)
        return Repetition("WEEKLY", interval, _byday(on) if days else "")
    if unit in ("month", "quarter"):
        interval *= 1 + 2 * (unit == "quarter")
        number = day_number(on) if on and not _days_of(on) else 0
        return Repetition("MONTHLY", interval, f"BYMONTHDAY={number}" if number else "")
    return Repetition("DAILY" if unit == "day" else "YEARLY", interval)


def _adverb(match: re.Match[str]) -> Repetition:
    said, on = match["u"], match["d"] or ""
    days = _days_of(on)
    by = _byday(on) if days else ""
    if said in ("daily", "once a day", "nightly"):
        return Repetition("DAILY", part="night" if said == "nightly" else "")
    if said in ("monthly", "once a month", "quarterly"):
        number = day_number(on) if on and not days else 0
        return Repetition("MONTHLY", 3 if said == "quarterly" else 1, f"BYMONTHDAY={number}" if number else "")
    if said in ("yearly", "annually"):
        return Repetition("YEARLY")
    interval = 2 if said in ("fortnightly", "biweekly", "bi-weekly", "2 weekly", "2-weekly") else 1
    if said[0] == "q" and said[1].isdecimal():
        interval = int(said[1])
    return Repetition("WEEKLY", interval, by)


def _nth_weekday(match: re.Match[str]) -> Repetition:
    nth = _nth(match["n"])
    if match["d"] in WEEKDAYS:
        return Repetition("MONTHLY", 1, f"BYDAY={nth}{CODES[WEEKDAYS.index(match['d'])]}")
    if match["d"] == "day":
        return Repetition("MONTHLY", 1, f"BYMONTHDAY={nth}")
    return Repetition("MONTHLY", 1, f"{_WORKDAYS};BYSETPOS={nth}")


def read_repetitions(text: Text) -> list[Piece[Repetition]]:
    """All repetitions."""
    return longest(read_forms(text, _FORMS))


_LIMITS = {
    "times": (r"(?:for )?(?P<n>\d+) times?|x ?(?P<x>\d+)|\((?P<y>\d+) (?:times|x)\)|(?P<z>\d+) ?x", lambda m: _limit(m["n"] or m["x"] or m["y"] or m["z"])),
    "after": (r"(?:ends? |stops? |stopping |ending )?after (?P<n>\d+) (?!minutes|hours?|days?|weeks?|am|pm|o'clock)[a-z]+", lambda m: _limit(m["n"])),
    "sessions": (r"(?:for )?(?P<n>\d+) (?:sessions|occurrences|dates|rounds|meetings|lessons|classes|goes)(?: in all| in total)?", lambda m: _limit(m["n"])),
    "span": (r"(?:for |over |lasting )(?:the )?(?:next )?(?P<n>\d+|a couple of|a) (?P<u>weeks?|days?|months?|nights?|evenings?|mornings?|fortnights?|years?|mondays|tuesdays|wednesdays|thursdays|fridays|saturdays|sundays)(?: running| in a row| in total)?|(?P<n2>\d+) (?P<u2>weeks|nights|evenings|mornings)(?: running| in a row| in total)?|the next (?P<n3>\d+) (?P<u3>weeks|days|months|nights)", lambda m: _span(m)),
}  # fmt: skip


def _limit(number: str, unit: str = "") -> Limit | None:
    count = int(number)
    return Limit(count, unit) if 1 < count <= 400 else None


def _span(match: re.Match[str]) -> Limit | None:
    number = match["n"] or match["n2"] or match["n3"]
    unit = (match["u"] or match["u2"] or match["u3"]).rstrip("s")
    count = {"a couple of": "2", "a": "1"}.get(number, number)
    if unit in WEEKDAYS or unit in ("night", "evening", "morning"):
        return _limit(count, "each" if unit in WEEKDAYS else "day")
    return Limit(int(count), unit) if 0 < int(count) <= 400 else None


def read_limits(text: Text) -> list[Piece[Limit]]:
    """How often, or for how long something is repeated."""
    return longest(read_forms(text, _LIMITS))
