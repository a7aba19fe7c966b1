"""Requests to look for free time: "find an hour with Ines next week", "when can Rui and I meet?".

They are told by how they begin, since no event answers them: what is free is worked out, for those who are named.
"""

from __future__ import annotations

from collections.abc import Iterator
from datetime import UTC, date, datetime, time, timedelta

from whenvoca.calendars.free_time import Span, Window, busy_spans, free_spans, joined, spans_of
from whenvoca.speech.chart.chart import Chart
from whenvoca.speech.chart.clocks import PARTS, settled
from whenvoca.speech.chart.piece import DAY, Days, Piece
from whenvoca.speech.judging.readings import TextReader
from whenvoca.speech.request import Request, Surroundings

_COURTESY = frozenset(
    "please can could would you kindly hi hello hey ok okay just also , . help us me calendar".split()
)
_FINDING = frozenset("find suggest propose".split())
_LOOKING = frozenset("look search".split())
_BETWEEN = frozenset("me us a an some any free the next 1st good possible common suitable spare more open out".split())
_TIMES = frozenset("slot slots time times gap gaps window windows opening openings hour hours date dates".split())
_MEETING = frozenset("meet talk speak sit chat together call".split())
_FREE = frozenset("free available".split())
_BOTH = frozenset("i me my we us our".split())
_AHEAD = 7  # days that are looked at where none is named
_QUARTER = 15  # minutes: nobody begins sooner than the next quarter of an hour
_MOST_DAYS = 100
_LATEST = time(22, 0)  # of a search after a time of day


def search_request(reader: TextReader) -> Request | None:
    """What is free, for a text that looks for time; None for any other one."""
    chart, around = reader.chart, reader.around
    if not _is_search(chart) or _names_a_time(chart):
        return None
    people = _people(chart, around)
    length = timedelta(
        minutes=next((each.value.minutes for each in chart.lengths if each.value.minutes), around.length)
    )
    found: list[Span] = []
    spans = joined(span for first, last in _ranges(chart) for span in _windows(chart, around, first, last))
    for span in spans:
        busy = _busy(reader, people, *span)
        found += [(begin, end) for begin, end in free_spans(span, busy) if end - begin >= length]
    zone = around.zone
    slots = [(begin.astimezone(zone), end.astimezone(zone)) for begin, end in found]
    low, high = (spans[0][0], spans[-1][1]) if spans else (around.now, around.now)
    return Request(
        "free", period=(low.astimezone(zone), high.astimezone(zone)), free=bool(slots), slots=slots, searches=True
    )


def _is_search(chart: Chart) -> bool:
    """Whether it begins as such a request does."""
    lows = chart.text.lows
    begin = 0
    while begin < len(lows) and lows[begin] in _COURTESY:
        begin += 1
    rest = lows[begin:]
    if not rest:
        return False
    if rest[0] in _FINDING or (rest[0] in _LOOKING and rest[1:2] == ["for"]):
        at = begin + (1 if rest[0] in _FINDING else 2)
        while at < len(lows) and lows[at] in _BETWEEN and not _length_at(chart, at):
            at += 1
        return at < len(lows) and (_length_at(chart, at) or lows[at] in _TIMES)
    if rest[0] in ("when", "when's") and (chart.people or "we" in rest):
        return bool((_MEETING if set(rest[1:3]) & {"can", "could", "should", "shall", "might"} else _FREE) & set(rest))
    if rest[:2] == ["is", "there"] and chart.people:
        return bool(_TIMES & set(rest[2:7])) or any(_length_at(chart, begin + at) for at in range(2, 5))
    return False


def _length_at(chart: Chart, at: int) -> bool:
    return any(each.begin == at for each in chart.lengths)


def _names_a_time(chart: Chart) -> bool:
    """Whether it says when it begins, so that nothing is to be looked for."""
    inside = [*chart.stretches, *chart.lengths, *chart.days]
    clocks = [each for each in chart.clocks if not any(each.overlaps(other) for other in inside)]
    return any(each.value.lead not in ("after", "before", "until", "from") for each in clocks)


def _people(chart: Chart, around: Surroundings) -> list[str]:
    """The addresses of those whose time it is: who is named, and who asks, where they mean themselves too."""
    named = [around.addresses.get(each.value.lower(), each.value) for each in chart.people]
    lows = chart.text.lows
    with_others = any(lows[each.begin - 1] in ("with", "and", ",") for each in chart.people if each.begin)
    if named and around.speaker and (_BOTH & set(lows) or with_others):
        named.append(around.speaker)
    return list(dict.fromkeys(named))


# --- when it is looked for


def _ranges(chart: Chart) -> Iterator[tuple[date, date]]:
    """The first and last days of the stretches that are meant."""
    today = chart.now.date()
    if not chart.days:
        yield today, today + (_AHEAD - 1) * DAY
    for day in chart.days:
        before = chart.text.lows[max(0, day.begin - 1) : day.begin + 1]
        yield _range(day, before, today)


def _range(day: Piece[Days], before: list[str], today: date) -> tuple[date, date]:
    value = day.value
    if "before" in before:
        return today, value.first - DAY
    if {"by", "until"} & set(before):
        return today, value.last
    if "after" in before:
        return value.last + DAY, value.last + _AHEAD * DAY
    if "from" in before:
        return value.first, value.first + (_AHEAD - 1) * DAY
    return value.first, value.last


def _windows(chart: Chart, around: Surroundings, first: date, last: date) -> Iterator[Span]:
    """The hours of these days that count: those that are named, else the working hours."""
    last = min(last, first + _MOST_DAYS * DAY)
    days = frozenset(range(7) if last - first < 2 * DAY else around.workdays)
    window, zone = Window(*_hours(chart, around), days), around.zone
    now = _next_quarter(around.now.astimezone(zone)).astimezone(UTC)
    low, high = (datetime.combine(day, time(), zone) for day in (first - DAY, last + 2 * DAY))
    for begin, end in spans_of(window, low, high, zone):
        if first <= begin.astimezone(zone).date() <= last and end > now:
            yield max(begin, now), end


def _hours(chart: Chart, around: Surroundings) -> tuple[time, time]:
    part = next((each.value.part for each in chart.days if each.value.part), "")
    part = part or next((each.value for each in chart.parts), "")
    if chart.stretches:
        ends = (chart.stretches[0].value.begin, chart.stretches[0].value.end)
        first, last = (settled(each, part or ("afternoon" if each.hour < 8 else "")) for each in ends)
        return _clock(first.minutes), _clock(last.minutes)
    for each in chart.clocks:
        at = _clock(each.value.minutes + (720 if each.value.is_open and each.value.hour < 8 else 0))
        if each.value.lead in ("after", "from"):
            return at, _LATEST if at >= around.hours[1] else around.hours[1]
        if each.value.lead in ("before", "until"):
            return min(around.hours[0], time(at.hour - 1 if at.hour else 0)), at
    if part in PARTS:
        opens, closes = PARTS[part]
        is_cut = opens < around.hours[0].hour < closes  # nobody begins a morning before the working hours
        return around.hours[0] if is_cut else time(opens), time(closes % 24)
    return around.hours


def _clock(minutes: int) -> time:
    return time(minutes // 60 % 24, minutes % 60)


def _next_quarter(moment: datetime) -> datetime:
    over = timedelta(minutes=moment.minute % _QUARTER, seconds=moment.second, microseconds=moment.microsecond)
    return moment if not over else moment - over + timedelta(minutes=_QUARTER)


# --- what is taken


def _busy(reader: TextReader, people: list[str], low: datetime, high: datetime) -> list[Span]:
    """What takes the time of these people; without any, all that stands in the agenda, and what the workspace knows of
    them besides."""
    around = reader.around
    walls = (each.astimezone(around.zone).replace(tzinfo=None) for each in (low, high))
    occurrences = reader.mentions.between(*walls)
    taken = busy_spans([each.event for each in occurrences], around.zone, people)
    if any("@" not in each for each in people):  # known by name alone
        taken += busy_spans([each.event for each in occurrences if each.has_person], around.zone)
    for address in people:
        taken += around.busy(address, low.astimezone(UTC), high.astimezone(UTC))
    return joined(taken)
