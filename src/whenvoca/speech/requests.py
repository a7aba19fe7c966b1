"""A reading as a request: events that are wished for, targets and changes with their zones, and what answers a
question."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from datetime import UTC, date, datetime, time, timedelta
from typing import Any
from zoneinfo import ZoneInfo

from whenvoca.speech.agenda import free_gaps, show_moment
from whenvoca.speech.candidates.change import Change
from whenvoca.speech.candidates.drafts import Draft
from whenvoca.speech.candidates.questions import Question
from whenvoca.speech.candidates.several import Several
from whenvoca.speech.candidates.target_sets import Occurrence, TargetSet
from whenvoca.speech.chart.clocks import PARTS, Clock, Length, Stretch
from whenvoca.speech.chart.piece import DAY, Days, Piece
from whenvoca.speech.chart.repeats import Limit, Repetition
from whenvoca.speech.chart.zones import Zone
from whenvoca.speech.judging.readings import Candidate, Reading, TextReader
from whenvoca.speech.request import Because, Request, Surroundings, Target, Wish

IS_PAST = "is past. Is that meant?"
DAY_BEGINS = 6  # a night that ends before takes nothing of the day
_MEANT_WHOLE = frozenset(
    """
    away birthday closed closure closes fasting holiday holidays hols leave off vacation deadline due anniversary day
    days absent whole all full entire trip expires renewal abroad break week weekend bday shut absence permit sick
    conference festival exhibition retreat camp course fair
    """.split()
)
_ASKS_WHEN = frozenset(
    ["when", "find", "which", "what", "gaps", "gap", "slot", "slots", "any", "works", "there", "1st"]
)


def to_request(reader: TextReader, reading: Reading) -> Request:
    """The request that a reading is; as a question where something has to be known first."""
    request = _checked(reader, plain_request(reader, reading.candidate), reading.candidate)
    request.because = _because(reader, reading.candidate)
    return request


def plain_request(reader: TextReader, candidate: Candidate) -> Request:
    """The request that a candidate is, whatever may be wrong with it."""
    zone = reader.zone
    match candidate:
        case Draft():
            return Request("create", events=[_wish(reader, candidate)])
        case Several():
            return Request(
                "create",
                events=[
                    _wish_of_part(reader, part.draft, part.chart.text.said, part.title, part.place)
                    for part in candidate.parts
                ],
            )
        case Change():
            return _change(candidate, zone)
        case TargetSet():
            return Request("delete", targets=_targets(candidate), scope=candidate.scope)
        case Question():
            return _answer(reader, candidate)
    return Request()


def _aware(moment: datetime | date, zone: ZoneInfo) -> datetime | date:
    return moment.replace(tzinfo=zone) if isinstance(moment, datetime) else moment


def _wish(reader: TextReader, draft: Draft) -> Wish:
    said = reader.chart.text.said
    assert draft.title is not None
    title = said(draft.title.begin, draft.title.end)
    place = said(draft.place.begin, draft.place.end) if draft.place is not None else ""
    return _wish_of_part(reader, draft, said, title, place)


def _wish_of_part(reader: TextReader, draft: Draft, said: Any, title: str, place: str) -> Wish:
    zone, when = reader.zone, draft.when
    start, end = _aware(when.start, zone), _aware(when.end, zone)
    if not when.length_said and isinstance(start, datetime) and isinstance(end, datetime):
        end = (start.astimezone(UTC) + timedelta(minutes=reader.around.length)).astimezone(zone)
    return Wish(
        _trimmed(title),
        start,
        end,
        _trimmed(place),
        list(draft.people),
        _rule(when.repeat, start, zone),
        when.reminder,
        [_aware(each, zone) for each in when.left_out],
    )


def _trimmed(words: str) -> str:
    """A title or place without quotes around it and the article before it."""
    return re.sub(r"^(?:the|a|an) (?=\S)", "", words.strip(" \"'“”‘’"), flags=re.IGNORECASE)


def _rule(rule: str, start: datetime | date, zone: ZoneInfo) -> str:
    """A rule with its UNTIL in UTC where the start is a moment (RFC 5545 3.3.10)."""
    if not isinstance(start, datetime):
        return re.sub(r"UNTIL=(\d{8})T\d{6}", r"UNTIL=\1", rule)

    def to_utc(match: re.Match[str]) -> str:
        local = datetime.strptime(match[1], "%Y%m%dT%H%M%S").replace(tzinfo=zone)
        return f"UNTIL={local.astimezone(UTC):%Y%m%dT%H%M%SZ}"

    return re.sub(r"UNTIL=(\d{8}T\d{6})(?!Z)", to_utc, rule)


def _targets(targets: TargetSet) -> list[Target]:
    """The events that are meant; of a whole series, or its rest, the first one."""
    members = targets.members if targets.scope == "this" else targets.members[:1]
    return [each.target for each in members]


def _change(change: Change, zone: ZoneInfo) -> Request:
    def plain(changes: dict[str, Any], occurrence: Occurrence) -> dict[str, Any]:
        found: dict[str, Any] = {
            name: _aware(value, zone) if isinstance(value, date) else value for name, value in changes.items()
        }
        for name in ("title", "location"):
            if name in found:
                found[name] = _trimmed(found[name])
        if "repeat" in found:
            found["repeat"] = _rule(found["repeat"], occurrence.event.start, zone)
        return found

    targets = _targets(change.targets)
    own = [plain(each, change.targets.members[n]) for n, each in enumerate(change.each)]
    return Request(
        "change",
        targets=targets,
        scope=change.targets.scope,
        changes=plain(change.changes, change.targets.first),
        own_changes=own,
    )


def _answer(reader: TextReader, question: Question) -> Request:
    around = reader.around
    low, high = (each.replace(tzinfo=around.zone) for each in question.period)
    found = [each.target for each in question.found]
    if question.intent == "query":
        lows = reader.chart.text.lows
        request = Request("query", targets=found, period=(low, high), count=len(found))
        request.wants_count = "many" in lows
        request.wants_details = bool({"details", "about"} & set(lows))
        return request
    return free_request(around, found, low, high, reader.chart.text.lows, [each.value for each in reader.chart.lengths])


def free_request(
    around: Surroundings,
    found: Sequence[Target],
    low: datetime,
    high: datetime,
    lows: Sequence[str],
    lengths: Sequence[Any],
) -> Request:
    """Whether a time is free, or what is free in it."""
    request = Request("free", targets=list(found), period=(low, high))
    taken = [each.event.span(around.zone) for each in found]
    length = next((timedelta(minutes=each.minutes, days=each.days) for each in lengths if each.minutes), None)
    is_long = high - low > timedelta(hours=4) and (length is None or length < high - low)
    wants_slots = bool(_ASKS_WHEN & set(lows)) and is_long
    if is_long and low.time() == time(0):
        low = low.replace(hour=DAY_BEGINS)
    request.slots = free_gaps(low, high, taken, around, length) if wants_slots or taken else [(low, high)]
    request.free = bool(request.slots) if wants_slots else not taken
    request.asks_busy = not wants_slots and "busy" in lows and "free" not in lows
    return request


# --- what has to be asked first


def _checked(reader: TextReader, request: Request, candidate: Any) -> Request:
    """The request, or the question whether a past or contradictory time is meant."""
    doubt = next(
        (piece.value.doubt for piece in _pieces(candidate) if isinstance(piece.value, Days) and piece.value.doubt), ""
    )
    if doubt:
        return _ask(request, doubt, "start")
    if unclear := next((each.value.doubt for each in reader.chart.zones if each.value.doubt), ""):
        return _ask(request, unclear, "zone")
    if request.intent == "create":
        for wish in request.events:
            question = _asked_of(reader, wish, candidate)
            if question:
                return _ask(request, question, "start")
    if isinstance(candidate, Change) and _lacks_time(candidate):
        return _ask(request, "At what time?", "start")
    start = request.changes.get("start")
    if request.intent == "change" and isinstance(start, datetime) and start < reader.around.now:
        return _ask(request, f"{show_moment(start)} {IS_PAST}", "start")
    if isinstance(start, datetime) and not exists(start):
        return _ask(request, f"The clocks skip {start:%H:%M} on that day. When does it begin?", "start")
    return request


def _lacks_time(change: Change) -> bool:
    """Whether a part of a day is named that the event's own time is not in, and no time."""
    parts = [piece.value.part for piece in change.used if isinstance(piece.value, Days) and piece.value.part]
    if not parts or any(isinstance(piece.value, Clock | Stretch) for piece in change.used):
        return False
    opens, closes = PARTS[parts[0]]
    hour = change.targets.first.start.hour
    return not opens <= hour < closes and not opens <= hour + 24 < closes


def _pieces(candidate: Any) -> Iterable[Piece[Any]]:
    if isinstance(candidate, Draft):
        return candidate.when.used
    if isinstance(candidate, Several):
        return [piece for part in candidate.parts for piece in part.draft.when.used]
    return candidate.used if isinstance(candidate, Change | TargetSet) else []


def _asked_of(reader: TextReader, wish: Wish, candidate: Any) -> str:
    """What has to be asked about a new event; empty for nothing."""
    start, today = wish.start, reader.chart.now.date()
    assert start is not None
    if isinstance(start, datetime):
        if start < reader.around.now and not wish.repeat:
            return f"{show_moment(start)} {IS_PAST}"
        if not exists(start):
            return f"The clocks skip {start:%H:%M} on that day. When does it begin?"
        return ""
    if start < today:
        return f"{start:%a} {start.day} {start:%b} {IS_PAST}"
    assert wish.end is not None
    is_plain = wish.end == start + DAY and not wish.repeat and isinstance(candidate, Draft)
    if is_plain and not (_MEANT_WHOLE & set(reader.chart.text.lows)):
        return "At what time, or all day?"
    return ""


def exists(moment: datetime) -> bool:
    """Whether the clocks of its zone show a moment at all."""
    there = moment.astimezone(UTC).astimezone(moment.tzinfo)
    return there.replace(tzinfo=None) == moment.replace(tzinfo=None)


def _ask(request: Request, question: str, *missing: str) -> Request:
    request.purpose = request.intent
    request.intent, request.question, request.missing = "ask", question, list(missing)
    return request


def _because(reader: TextReader, candidate: Candidate) -> list[Because]:
    """Which words were read as what."""
    tokens = reader.chart.text.tokens
    found = []
    if isinstance(candidate, Several | None):
        return []
    pieces = [
        *_pieces(candidate),
        *reader.chart.zones,
        *(candidate.targets.used if isinstance(candidate, Change) else []),
    ]
    title = candidate if isinstance(candidate, Draft) else None
    for each in sorted(pieces, key=lambda piece: piece.begin):
        if each.end > each.begin:
            span = (tokens[each.begin].begin, tokens[each.end - 1].end)
            found.append(Because(reader.text[span[0] : span[1]], span, show_piece(each.value)))
    for name, part in (("title", title.title), ("location", title.place)) if title is not None else ():
        if part is not None:
            span = (tokens[part.begin].begin, tokens[part.end - 1].end)
            found.append(Because(reader.text[span[0] : span[1]], span, name))
    return found


def show_piece(value: Any) -> str:
    """A piece as it was read."""
    if isinstance(value, Days | Zone) and value.doubt:
        return "in doubt"
    if isinstance(value, Days):
        return str(value.first) if value.first == value.last else f"{value.first} to {value.last}"
    match value:
        case Zone():
            return value.name
        case Clock():
            return f"{value.hour:02}:{value.minute:02}"
        case Stretch():
            return f"{value.begin.hour:02}:{value.begin.minute:02} to {value.end.hour:02}:{value.end.minute:02}"
        case Repetition():
            return f"repeat {value.rule}"
        case Limit():
            return f"{value.count} {value.unit or 'times'}"
        case Length():
            return f"{value.minutes} min" if value.minutes else f"{value.days} days"
        case int():
            return f"{value} min before"
        case (way, moment, _):
            return f"{way} {moment:%Y-%m-%d %H:%M}"
    return str(value)
