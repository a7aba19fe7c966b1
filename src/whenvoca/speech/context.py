"""What the readers of requests share: the words, what stands around them, moments of pieces, and how something is
asked."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, date, datetime, time, timedelta
from functools import cached_property
from typing import overload

from msgspec import Struct, field

from whenvoca.speech.agenda import show_moment
from whenvoca.speech.clocks import Clock, Span
from whenvoca.speech.finder import Finder
from whenvoca.speech.lexicon import ENDS, EVENING, FILLERS, MORNING
from whenvoca.speech.pieces import Pieces, When
from whenvoca.speech.request import Request, Surroundings
from whenvoca.speech.times import Days, TimeReader
from whenvoca.speech.titles import AgendaIndex, index_of, known_titles
from whenvoca.speech.words import Word

IS_PAST = "is past. Is that meant?"
DAY, YEAR = timedelta(days=1), timedelta(days=366)
# The hours of a part of the day, where a stretch is meant; the night goes on until 4.
PARTS = {
    "morning": (6, 12),
    "afternoon": (12, 18),
    "evening": (17, 24),
    "night": (17, 28),
    "lunch": (11, 14),
    "lunchtime": (11, 14),
}


class Context(Struct, dict=True):
    """One text being read."""

    words: list[Word]
    around: Surroundings
    request: Request = field(default_factory=Request)
    lows: list[str] = field(default_factory=list)

    def __post_init__(self) -> None:
        self.lows = [word.low for word in self.words]

    @property
    def wall(self) -> datetime:
        """The moment as the clocks of the zone show it."""
        return self.around.now.astimezone(self.around.zone).replace(tzinfo=None)

    @cached_property
    def locked(self) -> frozenset[int]:
        """The words that are the title of an event in the agenda: no time is read out of them."""
        return known_titles(self.lows, self.index)

    @property
    def index(self) -> AgendaIndex:
        """The agenda by its words and times."""
        return index_of(self.around.agenda, self.around.zone)

    def pieces(self, begin: int, end: int | None = None, *, bare: bool = False, locks: bool = True) -> Pieces:
        """The typed pieces among some words; ``bare``: a number alone at the beginning is a time of day."""
        words = list(self.words[begin:end])
        for i in self.locked if locks else ():
            if begin <= i < begin + len(words):
                words[i - begin] = Word(
                    self.words[i].text, f"\0{self.words[i].low}", self.words[i].begin, self.words[i].end
                )
        finder = Finder(words, self.wall, self.around.zone, self.around.order, self.around.names, bare=bare)
        pieces = finder.find()
        part = "morning" if MORNING & set(self.lows) else "evening" if EVENING & set(self.lows) else ""
        for when in pieces.whens if part else ():
            is_settled = part == "evening" and when.from_ is not None and not 5 <= when.from_.at.hour <= 11
            when.part = when.part or (part if when.from_ is not None and not is_settled else "")
        return pieces

    def tell(self, *found: Pieces) -> None:
        """These pieces are what was read; what else was tried is not told."""
        self.request.because = [each for pieces in found for each in pieces.because]

    def reader(self) -> TimeReader:
        """Reads times among the words."""
        return TimeReader(self.words, self.wall, self.around.order)

    def ask(self, question: str, *missing: str) -> Request:
        """The request as a question."""
        if self.request.intent != "ask":
            self.request.purpose = self.request.intent
        self.request.intent, self.request.question, self.request.missing = "ask", question, list(missing)
        return self.request

    def asks_past(self, start: datetime | date | None) -> Request | None:
        """A question where a moment is past."""
        if isinstance(start, datetime) and start < self.around.now:
            return self.ask(f"{show_moment(start)} {IS_PAST}", "start")
        return None

    # --- moments

    def moment(self, day: date, clock: time) -> datetime:
        """A moment in the zone of who asks."""
        return datetime.combine(day, clock, tzinfo=self.around.zone)

    @overload
    def after(self, start: datetime, span: Span) -> datetime: ...

    @overload
    def after(self, start: date, span: Span) -> date: ...

    def after(self, start: datetime | date, span: Span) -> datetime | date:
        """This much later: days on the calendar, minutes on the clock; of a date the days alone."""
        if not isinstance(start, datetime):
            return Span(0, span.days, span.months).added_to(datetime.combine(start, time())).date()
        if span.days or span.months:
            return span.added_to(start)
        return (start.astimezone(UTC) + timedelta(minutes=span.minutes)).astimezone(start.tzinfo)

    def coming(self, clock: time) -> date:
        """Without a day: today, or tomorrow where that time is past."""
        return self.wall.date() if clock > self.wall.time() else self.wall.date() + DAY

    def span_of(
        self, when: When, length: Span | None, *, default: int
    ) -> tuple[datetime | date | None, datetime | date | None]:
        """Start and end of a stretch; dates for whole days; None where no day or time is said."""
        reader = self.reader()
        if when.relative is not None:
            start = self.moment(when.relative.date(), when.relative.time())
            return start, self.after(start, length or when.length or Span(default))
        days, length = when.days, when.length or length
        if when.from_ is None:
            if days is None:
                return None, None
            last = when.until_days.last if when.until_days else days.last
            return days.first, last + DAY
        from_, until = reader.settle(when.from_, when.part), None
        if when.until is not None:
            from_, until = settled_range(reader, when.from_, when.until, when.part)
        day = days.first if days is not None else self.coming(from_)
        is_next = from_ == time(0) and when.from_.at == time(0) and days is not None and when.part == "night"
        start = self.moment(day + (DAY if is_next else timedelta()), from_)
        if until is None:
            return start, self.after(start, length or Span(default))
        last = when.until_days.first if when.until_days is not None else day
        end = self.moment(last, until)
        if end <= start and when.until_days is None:
            end = self.moment(last + DAY, until)
        return start, end

    def period(self, when: When) -> tuple[datetime | None, datetime | None]:
        """The stretch that a text speaks of: a day, a part of it, a time to another."""
        if when.relative is not None:
            begin = self.moment(when.relative.date(), when.relative.time())
            return begin, begin + timedelta(minutes=1)
        if when.days is None and when.from_ is None and not when.part:
            return None, None
        first = when.days.first if when.days else self.wall.date()
        last = (when.until_days or when.days or Days(first, first)).last
        low, high = self.moment(first, time(0)), self.moment(last + DAY, time(0))
        reader = self.reader()
        if when.part:
            opens, closes = PARTS[when.part]
            low, high = low + timedelta(hours=opens), self.moment(last, time(0)) + timedelta(hours=closes)
        if when.from_ is not None:
            if when.until is not None:
                from_, until = settled_range(reader, when.from_, when.until, when.part)
                return self.moment(first, from_), self.moment(last + (DAY if until <= from_ else timedelta()), until)
            clock = self.moment(first, reader.settle(when.from_, when.part))
            if when.open_end == "after":
                return clock, high
            if when.open_end == "before":
                return low, clock
        return low, high

    def first_period(self, pieces: Pieces) -> tuple[datetime, datetime] | None:
        """The first stretch that a text speaks of."""
        for when in pieces.whens:
            low, high = self.period(when)
            if low is not None and high is not None:
                return low, high
        return None

    def doubt(self, *found: Pieces) -> str:
        """What has to be asked about the days that were said."""
        for pieces in found:
            for when in pieces.whens:
                for days in (when.days, when.until_days):
                    if days is not None and days.doubt:
                        return days.doubt
        return ""

    # --- titles

    def title_words(self, pieces: Pieces) -> list[str]:
        """The words that say which one, without fillers."""
        left = [word for i, word in enumerate(pieces.words) if i not in pieces.claimed]
        parts = [part for word in left for part in word.low.strip('\0"“”„').split()]
        return [part for part in parts if part not in FILLERS]


def settled_range(reader: TimeReader, first: Clock, second: Clock, part: str) -> tuple[time, time]:
    """Both ends of a range: what one of them says of am and pm holds for the other where that gives an order. After a
    first hour of the 24-hour clock the second one is of it too."""
    if not first.is_open and second.is_open:
        if first.is_marked and second.at.hour < 12:
            same = second.at.replace(hour=second.at.hour % 12 + 12 * (first.at.hour >= 12))
            later = same if same > first.at else second.at.replace(hour=(same.hour + 12) % 24)
            return first.at, later
        if first.at.hour >= 13:
            return first.at, second.at
    until = reader.settle(second, part)
    if first.is_open and not second.is_open and not part:
        options = [first.at, first.at.replace(hour=(first.at.hour + 12) % 24)] if first.at.hour <= 12 else [first.at]
        before = [each for each in options if each < until]
        return (max(before) if before else reader.settle(first, part)), until
    from_ = reader.settle(first, part)
    if second.is_open and until <= from_ and second.at.hour < 12:
        later = second.at.replace(hour=second.at.hour + 12)
        until = later if later > from_ else until
    return from_, until


def joined(words: Sequence[Word], places: Sequence[int]) -> str:
    """These words as a title: without articles and little words at its ends."""
    left = list(places)
    while left and _bare(words[left[0]]) in ENDS and len(left) > 1:
        left.pop(0)
    while left and _bare(words[left[-1]]) in ENDS and words[left[-1]].text != "A":
        left.pop()
    if sum(words[i].low == "(" for i in left) != sum(words[i].low == ")" for i in left):
        left = [i for i in left if words[i].low not in ("(", ")")]
    left = [i for n, i in enumerate(left) if words[i].low != ":" or (n + 1 < len(left) and left[n + 1] == i + 1)]
    if len(left) == 1 and _bare(words[left[0]]) in ENDS:
        return ""
    left = [
        i
        for n, i in enumerate(left)
        if words[i].low not in (",", ";") or (n and left[n - 1] == i - 1 and words[i - 1].low != ",")
    ]
    while left and words[left[-1]].low in (",", ";"):
        left.pop()
    pieces: list[str] = []
    for n, i in enumerate(left):
        glue = "" if not n or (words[i].begin == words[left[n - 1]].end) else " "
        pieces.append(glue + words[i].text)
    return "".join(pieces).strip('"“”„ ')


def _bare(word: Word) -> str:
    return word.low.lstrip("\0")
