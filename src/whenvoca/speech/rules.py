"""A repetition (RFC 5545 3.3.10) in words that are read back as the same: every tuesday and thursday until 30 Jun
2027."""

from __future__ import annotations

from datetime import UTC, datetime
from zoneinfo import ZoneInfo

_DAYS = {
    "MO": "monday",
    "TU": "tuesday",
    "WE": "wednesday",
    "TH": "thursday",
    "FR": "friday",
    "SA": "saturday",
    "SU": "sunday",
}
_WORKDAYS = "MO,TU,WE,TH,FR"
_NTH = {"1": "first", "2": "second", "3": "third", "4": "fourth", "5": "fifth", "-1": "last"}
_UNITS = {"DAILY": "day", "WEEKLY": "week", "MONTHLY": "month", "YEARLY": "year"}


def show_rule(rule: str, zone: ZoneInfo) -> str:
    """The rule in words; as it stands where there are none for it."""
    parts = dict(part.split("=", 1) for part in rule.split(";") if "=" in part)
    said = _how_often(parts)
    known = {"FREQ", "INTERVAL", "BYDAY", "BYMONTHDAY", "BYSETPOS", "COUNT", "UNTIL"}
    if not said or set(parts) - known:
        return f"repeating ({rule})"
    if "COUNT" in parts:
        return f"{said}, {parts['COUNT']} times"
    if "UNTIL" in parts:
        until = parts["UNTIL"]
        last = datetime.strptime(until[:8], "%Y%m%d").replace(tzinfo=UTC)
        if "T" in until:
            last = datetime.strptime(until, "%Y%m%dT%H%M%SZ").replace(tzinfo=UTC).astimezone(zone)
        return f"{said} until {last.day} {last:%b %Y}"
    return said


def _how_often(parts: dict[str, str]) -> str:
    unit, interval = _UNITS.get(parts.get("FREQ", ""), ""), parts.get("INTERVAL", "1")
    every = f"every {unit}" if interval == "1" else f"every {interval} {unit}s"
    by_day, by_date, position = parts.get("BYDAY", ""), parts.get("BYMONTHDAY", ""), parts.get("BYSETPOS", "")
    if not (by_day or by_date or position):
        return every if unit else ""
    if unit == "week" and by_day and not position and all(code in _DAYS for code in by_day.split(",")):
        days = [_DAYS[code] for code in by_day.split(",")]
        named = " and ".join([", ".join(days[:-1]), days[-1]]) if len(days) > 1 else days[0]
        if by_day == _WORKDAYS and interval == "1":
            return "every weekday"
        return (
            f"every {named}"
            if interval == "1"
            else f"every other {named}"
            if interval == "2"
            else f"{every} on {named}"
        )
    if unit != "month":
        return ""
    if position and by_day == _WORKDAYS and position in _NTH and interval == "1":
        return f"on the {_NTH[position]} weekday of every month"
    if by_date and not by_day and by_date.isdecimal():
        return f"{every} on the {by_date}{_ending(int(by_date))}"
    if by_date == "-1" and interval == "1":
        return "on the last day of every month"
    if by_day[-2:] in _DAYS and by_day[:-2] in _NTH:
        return f"{every} on the {_NTH[by_day[:-2]]} {_DAYS[by_day[-2:]]}"
    return ""


def _ending(number: int) -> str:
    return "th" if 10 < number < 14 else {1: "st", 2: "nd", 3: "rd"}.get(number % 10, "th")
