"""How an event repeats, as a workflow says it: `every 2 weeks on wednesday, 6 times`, or an RRULE (RFC 5545 3.3.10)."""

from __future__ import annotations

import re

from whenvoca.values.weekdays import CODES, NAMES, WORKDAYS

_DAYS = dict(zip(NAMES, CODES, strict=True))
_DAY_GROUPS = {"weekdays": WORKDAYS, "weekday": WORKDAYS}
_UNITS = {"day": "DAILY", "week": "WEEKLY", "month": "MONTHLY", "year": "YEARLY"}
_ORDINALS = {"first": 1, "second": 2, "third": 3, "fourth": 4, "fifth": 5, "last": -1}
_EVERY = re.compile(r"every\s+(?:(\d+|other|second)\s+)?([a-z]+)\b", re.IGNORECASE)
_TIMES = re.compile(r",?\s*(?:for\s+)?(\d+)\s+times\s*\Z", re.IGNORECASE)
_UNTIL = re.compile(r",?\s*\b(until)\s+(.+)\Z", re.IGNORECASE | re.DOTALL)


class NoRepeat(ValueError):
    """The phrase is no rule; the text says why."""


def split_until(phrase: str) -> tuple[str, int, str]:
    """The phrase without its `until …`, where the end's value begins, and that value's source ("" if none)."""
    found = _UNTIL.search(phrase)
    return (phrase[: found.start()], found.start(2), found[2]) if found else (phrase, len(phrase), "")


def parse_repeat(phrase: str) -> dict[str, str]:
    """The RRULE parts (without UNTIL) of a phrase. Raises NoRepeat with the reason."""
    phrase = " ".join(phrase.split())
    if re.match(r"(RRULE:)?FREQ=", phrase, re.IGNORECASE):
        return dict(part.upper().split("=", 1) for part in phrase.removeprefix("RRULE:").split(";") if "=" in part)
    parts: dict[str, str] = {}
    if times := _TIMES.search(phrase):
        parts["COUNT"] = times[1]
        if times[1] == "0":
            raise NoRepeat("0 times is no repetition")
        phrase = phrase[: times.start()]
    head = _EVERY.match(phrase)
    if not head:
        raise NoRepeat('a repetition begins with "every", as in: every 2 weeks on wednesday, 6 times')
    interval, unit = head[1], head[2].lower()
    rest = phrase[head.end() :].strip()
    if unit in _DAYS or unit in _DAY_GROUPS:  # every monday, wednesday
        rest, unit = f"on {unit}{rest if rest.startswith(',') else ' ' + rest}".strip(), "week"
    frequency = _UNITS.get(unit.removesuffix("s"))
    if not frequency:
        raise NoRepeat(f'"{unit}" is no unit of repetition; days, weeks, months, years')
    rule = {"FREQ": frequency}
    if interval:
        rule["INTERVAL"] = "2" if interval.lower() in ("other", "second") else str(int(interval))
        if rule["INTERVAL"] == "0":
            raise NoRepeat("an interval of 0 repeats nothing")
    if rest:
        rule |= _read_days(rest, frequency)
    return rule | parts


def _read_days(rest: str, frequency: str) -> dict[str, str]:
    words = [word for word in re.split(r"[,\s]+|\band\b", rest.lower()) if word and word not in ("on", "the")]
    if not words:
        raise NoRepeat('a day is missing after "on"')
    if frequency == "WEEKLY":
        days = [_DAY_GROUPS.get(word) or _DAYS.get(word) for word in words]
        if not all(days):
            raise NoRepeat(f'"{words[days.index(None)]}" is no day of the week')
        return {"BYDAY": ",".join(day for day in days if day)}
    if frequency == "MONTHLY":
        return _read_month_days(words)
    raise NoRepeat(f'"{rest}" is not understood; days are named for weeks and months')


def _read_month_days(words: list[str]) -> dict[str, str]:
    by_day, by_number = [], []
    position = 0
    while position < len(words):
        word = words[position]
        follower = words[position + 1] if position + 1 < len(words) else ""
        if word in _ORDINALS and follower in _DAYS:
            by_day.append(f"{_ORDINALS[word]}{_DAYS[follower]}")
            position += 2
        elif word == "last" and follower == "day":
            by_number.append("-1")
            position += 2
        elif (number := re.fullmatch(r"(\d{1,2})(?:st|nd|rd|th)?", word)) and 1 <= int(number[1]) <= 31:
            by_number.append(str(int(number[1])))
            position += 1
        elif word == "day":
            position += 1
        else:
            raise NoRepeat(f'"{word}" is no day of a month, such as: the 1st, the last day, the last friday')
    if by_day and by_number:
        raise NoRepeat("a day of the week and a day of the month do not go together")
    return {"BYDAY": ",".join(by_day)} if by_day else {"BYMONTHDAY": ",".join(by_number)}
