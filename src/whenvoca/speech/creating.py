"""New events: one, or several in one text; what is still needed is asked for."""

from __future__ import annotations

from datetime import UTC, date, datetime, time

from msgspec import Struct

from whenvoca.speech.context import DAY, IS_PAST, Context, joined
from whenvoca.speech.lexicon import (
    BOOKED,
    FINITE,
    LABELS,
    LEFT_OF_TIMES,
    MEANT_WHOLE,
    NAMED_DAYS,
    NAMELESS,
    NEAR_DAYS,
    PRONOUNS,
)
from whenvoca.speech.pieces import Pieces, When
from whenvoca.speech.request import Request, Wish
from whenvoca.speech.times import Days
from whenvoca.speech.words import MONTHS, UNITS, WEEKDAYS, Word

_JOINS = (",", ";", "and", "&", "then", "+")
_BEFORE_TITLES = (
    "a",
    "an",
    "the",
    "new",
    "another",
    "second",
    "next",
    "our",
    "my",
    "weekly",
    ":",
    ",",
    "-",
    "on",
    "at",
    "friday",
    "tomorrow",
)
_LONGEST_BARE = 6  # words of a title that stands with nothing but a day or an hour


class _Part(Struct):
    """One event of a text, as far as it is said."""

    wish: Wish
    pieces: Pieces
    when: When | None

    @property
    def is_timed(self) -> bool:
        """Whether a time of day is said."""
        return self.when is not None and (self.when.from_ is not None or self.when.relative is not None)

    @property
    def is_whole(self) -> bool:
        """Whether whole days are said."""
        length = self.pieces.length
        return length is not None and length.days > 0 and (self.when is None or self.when.from_ is None)


def create(context: Context, begin: int, end: int, *, is_wanted: bool) -> Request:
    """The new events of a clause. ``is_wanted``: a word says that they are to be made; else it may be no request at
    all."""
    parts = _parts(context, begin, end)
    if not is_wanted and not _looks_wanted(context, parts):
        return Request("none", because=context.request.because)
    request = context.request
    request.intent = "create"
    request.events = [each.wish for each in parts]
    context.tell(*(each.pieces for each in parts))
    if doubt := context.doubt(*(each.pieces for each in parts)):
        return context.ask(doubt, "start")
    if any(each.when is not None and each.when.open_end and each.when.until is None for each in parts):
        return context.ask("At what time does it begin?", "start")
    if (
        not is_wanted
        and context.locked
        and {"instead", "only", "longer", "shorter", "earlier", "later", "now"} & set(context.lows)
    ):
        return context.ask("What shall be changed? Please say it as an order, such as: move … to …", "changes")
    if not is_wanted and context.locked and _is_title_led(context, parts[0].pieces, begin):
        return context.ask("Is that to be changed, or is it a new event?", "changes")
    if any(_is_contrary(each) for each in parts):
        return context.ask("Once, on that day, or again and again?", "repeat")
    if any(_has_time_left(each) for each in parts):
        return context.ask("I do not understand when that is. On which day, and at what time?", "start")
    for part in parts:
        _fill(context, part)
    first = parts[0]
    if len(parts) == 1:
        _more_days(context, first)
    for part in parts:
        if complete(context, part.wish, part.pieces, part.when, is_whole=part.is_whole).question:
            return request
    return request


def _parts(context: Context, begin: int, end: int) -> list[_Part]:
    """The text as one event, or as several where each has a time of its own."""
    whole = _part(context, begin, end)
    if whole.pieces.repeat or sum(each.from_ is not None for each in whole.pieces.whens) < 2:
        return [whole]
    parts: list[_Part] = []
    at = begin
    for i in range(begin, end + 1):
        if i < end and context.lows[i] not in _JOINS:
            continue
        part = _part(context, at, i)
        if part.is_timed and (part.wish.title or (part.when is not None and part.when.days is not None) or parts):
            parts.append(part)
            at = i + 1
        elif i == end:
            parts = []
    titles = [each.wish.title for each in parts if each.wish.title]
    if len(parts) < 2 or not titles or not (parts[0].wish.title or len(titles) == 1):
        return [whole]
    days = next((each.when.days for each in parts if each.when is not None and each.when.days is not None), None)
    for n, part in enumerate(parts):
        part.wish.title = part.wish.title or titles[0]
        part.wish.location = part.wish.location or (parts[n - 1].wish.location if n else "")
        assert part.when is not None
        if part.when.days is None and part.when.relative is None:
            part.when.days = parts[n - 1].when.days if n and parts[n - 1].when is not None else days  # type: ignore[union-attr]
    return parts


def _part(context: Context, begin: int, end: int) -> _Part:
    while begin < end and context.lows[begin] in (",", ";", "and", "&", "-", ":"):
        begin += 1
    named, begin = _people_first(context, begin, end)
    pieces = context.pieces(begin, end)
    pieces.people = [*named, *pieces.people]
    title, place = title_and_place(pieces)
    when = next((each for each in pieces.whens if each.from_ is not None or each.relative is not None), None)
    when = when or next(iter(pieces.whens), None)
    if when is not None and when.days is None and when.relative is None:
        when.days = next((each.days for each in pieces.whens if each.days is not None), None)
        when.part = when.part or next((each.part for each in pieces.whens if each.part), "")
    return _Part(Wish(title, location=place), pieces, when)


def _people_first(context: Context, begin: int, end: int) -> tuple[list[str], int]:
    """Ana, tomas and rui: planning on monday. The people before a colon, and where the rest begins."""
    known = context.around.names
    if ":" not in context.lows[begin:end]:
        return [], begin
    colon = begin + context.lows[begin:end].index(":")
    words = [low for low in context.lows[begin:colon] if low not in (",", "and", "&", "with", "for")]
    if not words or any(low not in known for low in words):
        return [], begin
    return [known[low] for low in words], colon + 1


def _looks_wanted(context: Context, parts: list[_Part]) -> bool:
    """Whether a text without a word for it asks for events: titles with their times, and no sentence about
    something."""
    for part in parts:
        title = part.wish.title.lower().replace("’", "'").split()
        if not title or (part.when is None and not part.pieces.repeat):
            return False
        if part.when is not None and not part.is_timed and part.when.days is None and not part.pieces.repeat:
            return False
        left = [word.low for i, word in enumerate(part.pieces.words) if i not in part.pieces.claimed]
        if FINITE & set(left) or set(left[:1]) & PRONOUNS or {"you", "your"} & set(left):
            return False
        when = part.when
        has_day = bool(part.pieces.repeat) or (
            when is not None and (when.days is not None or when.relative is not None)
        )
        is_mere_day = has_day and not part.is_timed
        if part.pieces.repeat and is_mere_day and {"its", "their"} & set(left):
            return False
        if is_mere_day and (len(title) > _LONGEST_BARE or is_no_day(context.words)):
            return False
        is_vague = not has_day and when is not None and when.from_ is not None and when.from_.is_open
        if (
            is_vague
            and when is not None
            and when.until is not None
            and (when.until.is_open or when.until.at == time(0))
        ):
            return False  # from 1 to 7 of anything
        if is_vague and when is not None and when.until is None:
            if any(word[:1].isdecimal() for word in title):
                return False
            if not when.is_led or len(title) > _LONGEST_BARE or when.open_end:
                return False
    return True


def _is_title_led(context: Context, pieces: Pieces, begin: int) -> bool:
    """Whether a word stands before a known title that may be an order which is not understood."""
    before = min(context.locked) - 1
    while before >= begin and context.lows[before] in ("the", "a", "an", "my", "our"):
        before -= 1
    return before >= begin and before - begin not in pieces.claimed and context.lows[before] not in _BEFORE_TITLES


def _is_contrary(part: _Part) -> bool:
    """Whether something daily or monthly is said to be on one day of the week."""
    rule = part.pieces.repeat
    if rule not in ("FREQ=DAILY", "FREQ=MONTHLY", "FREQ=YEARLY") or part.when is None or part.when.days is None:
        return False
    lows = {word.low for word in part.pieces.words}
    is_word = bool({"daily", "monthly", "yearly"} & lows)
    return (
        is_word
        and part.when.until_days is None
        and part.when.days.first == part.when.days.last
        and bool(set(WEEKDAYS) & lows)
    )


def _has_time_left(part: _Part) -> bool:
    """Whether words of time are left in what should be a title: then the time was not understood whole."""
    left = [part.pieces.words[i].low for i in range(len(part.pieces.words)) if i not in part.pieces.claimed]
    words = part.pieces.words
    for i, word in enumerate(words[:-1]):
        is_listed = i not in part.pieces.claimed and word.low.isdecimal() and words[i + 1].low in (",", "and", "&")
        if is_listed and i + 2 < len(words) and words[i + 2].low[:1].isdecimal():
            return True  # the 19, 20 and 21 march
    claimed = part.pieces.claimed
    if any(low.endswith("day") and len(low) >= 6 and low not in NAMED_DAYS for low in left):
        return True  # a day whose name is not known: tursday
    is_undated = (
        part.when is not None and part.when.days is None and part.when.relative is None and not part.pieces.repeat
    )
    if is_undated and NEAR_DAYS & set(left):
        return True
    for i, word in enumerate(words):
        is_behind = i - 1 in claimed or (i > 1 and i - 2 in claimed and words[i - 1].low in ("and", ",", "&", "'"))
        if i not in claimed and word.low.isdecimal() and is_behind:
            return True
        is_near = i + 1 in claimed or i - 1 in claimed
        if i not in claimed and is_near and word.low in LEFT_OF_TIMES:
            return True
    for n, low in enumerate(left):
        near = [*left[max(0, n - 1) : n], *left[n + 1 : n + 2]]
        if low in ("except", "excluding", "unless", "not", "but"):
            return True
        if low in ("every", "each", "daily", "weekly", "fortnightly") and part.pieces.repeat == "":
            return True
        if (low in MONTHS or low in WEEKDAYS or low in UNITS) and any(each[:1].isdecimal() for each in near):
            return True
    return False


def is_no_day(words: list[Word]) -> bool:
    """Whether a short name of a day is rather a word of the sentence: the sun is out, she sat down."""
    lows = [word.low for word in words]
    if "sun" in lows and lows[max(0, lows.index("sun") - 1)] == "the":
        return True
    return "sat" in lows[1:] and lows[lows.index("sat") - 1] in (*PRONOUNS, "who", "and")


def _fill(context: Context, part: _Part) -> None:
    """Times, people, reminder and repetition of an event."""
    wish, pieces, when = part.wish, part.pieces, part.when
    wish.attendees, wish.reminder = pieces.people, pieces.reminder
    if when is not None:
        length = None if part.is_whole else pieces.length
        wish.start, wish.end = context.span_of(when, length, default=context.around.length)
        is_day = isinstance(wish.start, date) and not isinstance(wish.start, datetime)
        if part.is_whole and is_day and pieces.length is not None and when.until_days is None:
            assert isinstance(wish.start, date)
            wish.end = max(wish.start + pieces.length.days * DAY, wish.end or wish.start)
    if pieces.repeat:
        _repeat(context, wish, pieces, when)


def _more_days(context: Context, part: _Part) -> None:
    """The same event on other days that were said: saturday and sunday 10-16."""
    if part.when is None or part.pieces.repeat:
        return
    wish, timed = part.wish, part.when
    others = [each for each in part.pieces.whens if each is not timed and each.days is not None and each.from_ is None]
    if timed.from_ is None:
        return
    found = [wish]
    for other in others:
        if other.days is timed.days or (timed.days is not None and other.days == timed.days):
            continue
        other.from_, other.until, other.length, other.part = (
            timed.from_,
            timed.until,
            timed.length,
            other.part or timed.part,
        )
        start, end = context.span_of(other, part.pieces.length, default=context.around.length)
        found.append(Wish(wish.title, start, end, wish.location, list(wish.attendees), "", wish.reminder))
    context.request.events = sorted(found, key=lambda each: str(each.start))


def _repeat(context: Context, wish: Wish, pieces: Pieces, when: When | None) -> None:
    """The rule, its end, and its first time."""
    rule, wall = pieces.repeat, context.wall
    count = next((each.read_as for each in pieces.because if each.read_as.startswith("COUNT=")), "")
    if count:
        rule += f";{count}"
    first = first_of(rule, wall.date())
    if when is not None and when.days is not None and not when.days.doubt:
        first = first_of(rule, when.days.first)
    clock = context.reader().settle(when.from_, when.part) if when is not None and when.from_ is not None else None
    until = pieces.repeat_until
    if until is None and when is not None and when.days is not None:
        last = (when.until_days or when.days).last
        until = last if last > when.days.first else None
    if clock is None:
        wish.start, wish.end = first, first + DAY
    else:
        if first == wall.date() and clock <= wall.time():
            first = first_of(rule, first + DAY)
        assert when is not None
        when.days = Days(first, first)
        wish.start, wish.end = context.span_of(when, pieces.length, default=context.around.length)
    if until is not None:
        moment = context.moment(until, time(23, 59, 59)).astimezone(UTC)
        rule += f";UNTIL={moment:%Y%m%dT%H%M%SZ}" if clock is not None else f";UNTIL={until:%Y%m%d}"
    wish.repeat = rule


def first_of(rule: str, day: date) -> date:
    """The first day of a rule from a day on."""
    from whenvoca.values.rules import parse_rule

    wall = datetime.combine(day, time())
    plain = ";".join(part for part in rule.split(";") if not part.startswith(("UNTIL", "COUNT", "INTERVAL")))
    for each in parse_rule(plain, wall, UTC):
        found: date = each.date()
        return found
    return day


def complete(context: Context, wish: Wish, pieces: Pieces, when: When | None, *, is_whole: bool) -> Request:
    """Asks for what a new event still needs."""
    request = context.request
    missing = [] if wish.title else ["title"]
    is_days = wish.start is not None and not isinstance(wish.start, datetime)
    is_plain_day = is_days and not is_whole and not pieces.repeat and not (when and when.until_days)
    if wish.start is None or (is_plain_day and not _is_plainly_whole(context, pieces, wish)):
        missing.append("start")
    if missing:
        asked: dict[tuple[str, ...], str] = {
            ("title",): "What shall it be called?",
            ("start",): "When is it?" if wish.start is None else "At what time, or all day?",
        }
        return context.ask(asked.get(tuple(missing), "What shall it be called, and when is it?"), *missing)
    if not pieces.repeat and (asked_past := context.asks_past(wish.start)) is not None:
        return asked_past
    if is_days and wish.start is not None and wish.start < context.wall.date() and not pieces.repeat:
        return context.ask(f"{wish.start:%a} {wish.start.day} {wish.start:%b} {IS_PAST}", "start")
    if wish.start is not None and wish.end is not None and wish.end <= wish.start:
        return context.ask("It would end before it begins. When does it end?", "end")
    if isinstance(wish.start, datetime):
        there = wish.start.astimezone(UTC).astimezone(context.around.zone)
        if there.replace(tzinfo=None) != wish.start.replace(tzinfo=None):
            return context.ask(f"The clocks skip {wish.start:%H:%M} on that day. When does it begin?", "start")
    return request


def _is_plainly_whole(context: Context, pieces: Pieces, wish: Wish) -> bool:
    lows = set(context.lows) | set(wish.title.lower().split())
    is_all = bool({"all", "whole", "entire"} & lows)
    return bool(lows & MEANT_WHOLE) or any(
        each.days and each.days.is_period and not each.part and (is_all or not _is_week(each.days))
        for each in pieces.whens
    )


def _is_week(days: Days) -> bool:
    """Whether a week or a month was named, in which something is rather than that it lasts so long."""
    length = (days.last - days.first).days + 1
    return (length == 7 and days.first.weekday() == 0) or (length >= 28 and days.first.day == 1)


def title_and_place(pieces: Pieces) -> tuple[str, str]:
    """What is left of the words: the title, and behind in, at or place: where it is."""
    words = pieces.words
    quoted = next((i for i, word in enumerate(words) if word.is_quoted), None)
    free = [i for i in range(len(words)) if i not in pieces.claimed]
    title: list[int] = []
    place: list[int] = []
    into = title
    skipped = -1
    for n, i in enumerate(free):
        low = words[i].low
        follows = n + 1 < len(free) and free[n + 1] == i + 1
        if i == skipped:
            continue
        if low in LABELS and follows and words[i + 1].low == ":" and not title:
            skipped = i + 1
            continue
        if low in ("place", "location", "venue", "where") and follows and words[i + 1].low == ":":
            into, skipped = place, i + 1
            continue
        if low == "room" and title and follows and i - 1 in pieces.claimed:
            into = place
        if low in ("called", "named", "titled") and title and into is title and follows:
            title.clear()
            continue
        if low == "both" and i + 1 in pieces.claimed:
            continue
        if low in ("in", "at") and title and follows and not words[i + 1].low.isdecimal():
            into = place
            continue
        if into is place and place and (i != place[-1] + 1 or low in (",", ";")) and low not in ("the",):
            into = title
        into.append(i)
    if quoted is not None:
        return words[quoted].text.strip('"“”„ '), joined(words, [i for i in place if i != quoted])
    while len(title) > 2 and words[title[0]].low in ("a", "an", "the", "some"):
        title.pop(0)
    if len(title) > 2 and words[title[0]].low in BOOKED and words[title[1]].low == "for":
        title = title[2:]
    found = joined(words, title)
    return ("" if found.lower() in NAMELESS else found), joined(words, place)
