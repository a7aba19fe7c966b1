"""From a text to a request: what is wanted, by its verb and form, and the pieces and words that fill it.

Where something needed is missing, or two readings are common, the request asks; it is never confidently wrong.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import UTC, date, datetime, time, timedelta

from whenvoca.calendars.event import Event
from whenvoca.calendars.recurrence import expand_events
from whenvoca.speech.agenda import free_gaps, is_said, show_moment, show_target
from whenvoca.speech.lexicon import (
    ASKING,
    BY_A_DISTANCE,
    CHANGE_FILLERS,
    CORRECTING,
    DELETE_FILLERS,
    DIRECTIONS,
    ENDS,
    FILLERS,
    IT,
    NO,
    POLITE,
    QUERY_FILLERS,
    SMALL_TALK,
    VERB_OF,
    YES,
)  # fmt: skip
from whenvoca.speech.pieces import Finder, Pieces, When
from whenvoca.speech.request import Because, Request, Surroundings, Target, Wish
from whenvoca.speech.times import Clock, Days, Span, TimeReader
from whenvoca.speech.words import ORDINALS, Word, number_of, spelled, split_words

_DAY, _YEAR = timedelta(days=1), timedelta(days=366)


def understand(text: str, around: Surroundings) -> Request:
    """The request in a text. Never raises; a text of any kind gives an answer in bounded time."""
    words = split_words(text)
    if not words:
        return Request("none")
    return _Reading(words, around).read()


@dataclass(slots=True)
class _Reading:
    words: list[Word]
    around: Surroundings
    request: Request = field(default_factory=Request)

    @property
    def wall(self) -> datetime:
        """The moment as the clocks of the zone show it."""
        return self.around.now.astimezone(self.around.zone).replace(tzinfo=None)

    def read(self) -> Request:
        """By what it begins with, then by what it holds."""
        lows = [word.low for word in self.words]
        if short := self._short_answer(lows):
            return short
        begin = next((i for i, low in enumerate(lows) if low not in POLITE), len(lows))
        core = lows[begin:]
        verb = _verb(core[0]) if core else ""
        if not core:
            return Request("none")
        if core[0] in CORRECTING and self.around.last and (corrected := self._correct(begin)) is not None:
            return corrected
        if (core[0] == "call" and "off" in core[1:]) or core[:3] == ["get", "rid", "of"]:
            verb = "delete"
        elif core[0] == "call" and self.around.last and len(core) > 1 and core[1] in IT:
            verb = "change"
        elif core[:2] == ["set", "up"] or (core[0] == "bring" and "forward" not in core and "back" not in core):
            verb = "create"
        elif (
            core[0] in ("push", "put", "bring", "move", "shift")
            and ("back" in core or "forward" in core or "off" in core)
        ) or (
            core[0] == "make"
            and (
                (core[1:2] and core[1] in IT) or "longer" in core or "shorter" in core or core[-1] in ("long", "short")
            )
        ):
            verb = "change"
        elif core[0] in ("add", "put") and "to" in core and self._names_people(core):
            verb = "change" if self._is_about_known(core) else "create"
        elif core[0] == "add" and self.around.last and self._names_only_people(core[1:]):
            verb = "change"
        elif core[0] in ("remind", "reminder"):
            verb = "change" if core[1:2] and "before" in core else "create"
        elif core[0] == "clear" or (core[0] == "set" and "free" in core):
            verb = "delete" if core[0] == "clear" else verb
        is_question = lows[-1] == "?" or core[0] in ASKING
        if verb not in ("change", "delete", "create") and is_question:
            return self._question(core, begin)
        if verb == "delete":
            return self._delete(begin + 1)
        if verb == "change":
            return self._change(core[0], begin)
        return self._create(begin + (verb == "create"), has_verb=verb == "create")

    # --- short answers

    def _short_answer(self, lows: list[str]) -> Request | None:
        bare = [low for low in lows if low not in (",", "!", ".", "?", ":", "please")]
        if bare[:1] in (["calendar"], ["whenvoca"]):
            bare = bare[1:]
        if not bare:
            return Request("none")
        if (
            bare[0] == "undo"
            or bare[:2] in (["take", "that"], ["revert", "that"], ["revert"])
            or bare[:3] == ["take", "it", "back"]
        ):
            return Request("undo")
        if self.around.pending is not None:
            if bare[0] in NO and len(bare) <= 4 and not any(number_of(word) for word in self.words):
                return Request("no")
            if bare[0] in YES and len(bare) <= 4:
                return Request("yes")
            if choice := self._choice(bare):
                return choice
        if bare[:2] == ["never", "mind"] or bare[0] == "nevermind" or bare[:2] == ["forget", "it"]:
            return Request("no")
        if bare[:2] == ["see", "you"] or (
            bare[0] in SMALL_TALK
            and len(bare) <= 6
            and not any(_verb(low) for low in bare)
            and not any(low.isdecimal() for low in bare)
        ):
            return Request("none")
        return None

    def _choice(self, bare: list[str]) -> Request | None:
        """The second one, both, all of them, 2."""
        pending = self.around.pending
        if pending is None or len(pending.targets) < 2 or pending.missing != ["which"]:
            return None
        count = len(pending.targets)
        if bare[0] in ("both", "all", "everything"):
            return Request("choose", choice=list(range(count)))
        rest = [low for low in bare if low not in ("the", "one", "number", "option", "that")]
        found = [ORDINALS[low] for low in rest if low in ORDINALS] or [
            int(low) for low in rest if low.isdecimal() and len(low) == 1
        ]
        if len(rest) == 1 and found and (found[0] == -1 or 1 <= found[0] <= count):
            return Request("choose", choice=[count - 1 if found[0] == -1 else found[0] - 1])
        if rest:
            pieces = self._pieces(0)
            fits = [
                n for n, each in enumerate(pending.targets) if self._fits(each, pieces, self._title_words(pieces, 0))
            ]
            if len(fits) == 1:
                return Request("choose", choice=fits)
        return None

    # --- pieces and moments

    def _pieces(self, begin: int, end: int | None = None) -> Pieces:
        words = self.words[begin:end]
        pieces = Finder(words, self.wall, self.around.zone, self.around.order, self.around.people).find()
        self.request.because += pieces.because
        return pieces

    def _reader(self) -> TimeReader:
        return TimeReader(self.words, self.wall, self.around.order)

    def _moment(self, day: date, clock: time) -> datetime:
        return datetime.combine(day, clock, tzinfo=self.around.zone)

    def _span_of(
        self, when: When, length: Span | None, *, default: int
    ) -> tuple[datetime | date | None, datetime | date | None]:
        """Start and end of a stretch; dates for whole days; None where no day or time is said."""
        reader = self._reader()
        if when.relative is not None:
            start = self._moment(when.relative.date(), when.relative.time())
            return start, self._after(start, length or when.length or Span(default))
        days, length = when.days, when.length or length
        if when.from_ is None:
            if days is None:
                return None, None
            last = when.until_days.last if when.until_days else days.last
            return days.first, last + _DAY
        part = when.part
        if when.until is not None:
            from_, until = _settled_range(reader, when.from_, when.until, part)
        else:
            from_, until = reader.settle(when.from_, part), None
        day = days.first if days is not None else self._coming(from_)
        start = self._moment(
            day
            + (
                _DAY
                if from_ == time(0) and when.from_.at == time(0) and days is not None and part == "night"
                else timedelta()
            ),
            from_,
        )
        if until is not None:
            last = when.until_days.first if when.until_days is not None else day
            end = self._moment(last, until)
            if end <= start and when.until_days is None:
                end = self._moment(last + _DAY, until)
            return start, end
        return start, self._after(start, length or Span(default))

    def _coming(self, clock: time) -> date:
        """Without a day: today, or tomorrow where that time is past."""
        return self.wall.date() if clock > self.wall.time() else self.wall.date() + _DAY

    def _after(self, start: datetime, span: Span) -> datetime:
        if span.days or span.months:
            return span.added_to(start)
        return (start.astimezone(UTC) + timedelta(minutes=span.minutes)).astimezone(start.tzinfo)

    def _doubt(self, pieces: Pieces) -> str:
        for when in pieces.whens:
            for days in (when.days, when.until_days):
                if days is not None and days.doubt:
                    return days.doubt
        return ""

    # --- create

    def _create(self, begin: int, *, has_verb: bool) -> Request:
        pieces = self._pieces(begin)
        request = self.request
        wish = Wish()
        when = next((each for each in pieces.whens), None)
        timed = next((each for each in pieces.whens if each.from_ is not None), None)
        for each in pieces.whens if timed is not None else ():
            if each.from_ is None and each.days is not None:
                assert timed is not None
                each.from_, each.until, each.length, each.part = (
                    timed.from_,
                    timed.until,
                    timed.length,
                    each.part or timed.part,
                )
        wish.title, wish.location = self._title_and_place(pieces, begin)
        has_time = when is not None or bool(pieces.repeat)
        is_bare = (
            when is not None
            and when.days is None
            and when.relative is None
            and when.from_ is not None
            and when.from_.is_open
            and not pieces.repeat
        )
        is_no_day = when is not None and when.from_ is None and _is_no_day(self.words)
        if not has_verb and (
            is_no_day or not (has_time and wish.title) or (is_bare and when is not None and when.until is None)
        ):
            return self._no_request(pieces, wish)
        if has_verb and not has_time and wish.location and wish.title:
            found = self._find(Pieces([]), wish.title.lower().split())
            if found and len({each.event.uid for each in found}) == 1:
                request.intent, request.targets, request.changes = "change", found[:1], {"location": wish.location}
                return request
        request.intent = "create"
        request.events = [wish]
        if doubt := self._doubt(pieces):
            return self._ask(doubt, "start")
        if any(each.from_ is not None and each.days is None and each is not timed for each in pieces.whens):
            return self._ask("Several times are said. When does it begin? One request for each event, please.", "start")
        wish.attendees, wish.alarm_minutes = pieces.people, pieces.alarm
        is_whole = pieces.length is not None and pieces.length.days > 0 and (when is None or when.from_ is None)
        if when is not None:
            wish.start, wish.end = self._span_of(when, None if is_whole else pieces.length, default=self.around.length)
            if (
                is_whole
                and pieces.length is not None
                and isinstance(wish.start, date)
                and not isinstance(wish.start, datetime)
            ):
                wish.end = wish.start + pieces.length.days * _DAY
        if pieces.repeat:
            self._repeat(wish, pieces, when)
        more = [each for each in pieces.whens[1:] if each.days is not None and each.from_ is not None]
        for other in more:
            start, end = self._span_of(other, pieces.length, default=self.around.length)
            request.events.append(
                Wish(wish.title, start, end, wish.location, list(wish.attendees), "", wish.alarm_minutes)
            )
        return self._complete(wish, pieces, when, is_whole=is_whole)

    def _complete(self, wish: Wish, pieces: Pieces, when: When | None, *, is_whole: bool) -> Request:
        """Asks for what a new event still needs."""
        missing = []
        if not wish.title:
            missing.append("title")
        is_days = wish.start is not None and not isinstance(wish.start, datetime)
        if wish.start is None or (
            is_days
            and not is_whole
            and not pieces.repeat
            and not (when and when.until_days)
            and not self._is_plainly_whole(pieces)
        ):
            missing.append("start")
        if missing:
            self.request.missing = missing
            asked: dict[tuple[str, ...], str] = {
                ("title",): "What shall it be called?",
                ("start",): "When is it?" if wish.start is None else "At what time, or all day?",
            }
            self.request.question = asked.get(tuple(missing), "What shall it be called, and when is it?")
            self.request.intent = "ask"
            return self.request
        if isinstance(wish.start, datetime) and wish.start < self.around.now and not pieces.repeat:
            return self._ask(f"{show_moment(wish.start)} is past. Is that meant?", "start")
        if wish.start is not None and wish.end is not None and wish.end <= wish.start:
            return self._ask("It would end before it begins. When does it end?", "end")
        if isinstance(wish.start, datetime):
            there = wish.start.astimezone(UTC).astimezone(self.around.zone)
            if there.replace(tzinfo=None) != wish.start.replace(tzinfo=None):
                return self._ask(f"The clocks skip {wish.start:%H:%M} on that day. When does it begin?", "start")
        return self.request

    def _is_plainly_whole(self, pieces: Pieces) -> bool:
        lows = {word.low for word in self.words}
        return bool(lows & {"holiday", "leave", "vacation", "birthday", "off", "closed"}) or any(
            w.days and w.days.is_period for w in pieces.whens
        )

    def _repeat(self, wish: Wish, pieces: Pieces, when: When | None) -> None:
        """The rule, its end, and its first time."""
        rule = pieces.repeat
        count = next((each.read_as for each in pieces.because if each.read_as.startswith("COUNT=")), "")
        if count:
            rule += f";{count}"
        first = _first_of(rule, self.wall.date())
        if when is not None and when.days is not None and not when.days.doubt:
            first = when.days.first
        clock = self._reader().settle(when.from_, when.part) if when is not None and when.from_ is not None else None
        if clock is None:
            wish.start, wish.end = first, first + _DAY
        else:
            if first == self.wall.date() and clock <= self.wall.time():
                first = _first_of(rule, first + _DAY)
            assert when is not None
            when.days = Days(first, first)
            wish.start, wish.end = self._span_of(when, pieces.length, default=self.around.length)
        if pieces.repeat_until is not None:
            last = self._moment(pieces.repeat_until, time(23, 59, 59)).astimezone(UTC)
            rule += f";UNTIL={last:%Y%m%dT%H%M%SZ}" if clock is not None else f";UNTIL={pieces.repeat_until:%Y%m%d}"
        wish.repeat = rule

    def _no_request(self, pieces: Pieces, wish: Wish) -> Request:
        pending = self.around.pending
        if pending is not None and pending.intent == "ask" and pending.events:
            return self._answered(pending, pieces, wish)
        return Request("none", because=self.request.because)

    def _answered(self, pending: Request, pieces: Pieces, said: Wish) -> Request:
        """What was missing in an earlier request, filled by this answer."""
        wish = pending.events[0]
        when = next(iter(pieces.whens), None)
        if "start" in pending.missing and when is not None:
            if when.days is None and wish.start is not None and not isinstance(wish.start, datetime):
                when.days = Days(wish.start, wish.start)
            wish.start, wish.end = self._span_of(when, pieces.length, default=self.around.length)
        elif "start" in pending.missing and pieces.length is not None and pieces.length.days:
            pieces.claim(0, 0, "")
        if "title" in pending.missing and said.title:
            wish.title = said.title
        self.request.events, self.request.intent = [wish], "create"
        is_whole = pieces.length is not None and pieces.length.days > 0
        return self._complete(wish, pieces, when, is_whole=is_whole)

    # --- titles and places

    def _title_words(self, pieces: Pieces, begin: int) -> list[str]:
        """The words that say which one, without fillers."""
        left = [word for i, word in enumerate(pieces.words) if i not in pieces.claimed]
        return [
            part
            for word in left
            for part in word.low.strip('"“”„').split()
            if part not in FILLERS and part not in POLITE
        ]

    def _title_and_place(self, pieces: Pieces, begin: int) -> tuple[str, str]:
        words = pieces.words
        quoted = next((i for i, word in enumerate(words) if word.is_quoted), None)
        free = [i for i in range(len(words)) if i not in pieces.claimed]
        title: list[int] = []
        place: list[int] = []
        into: list[int] = title
        for n, i in enumerate(free):
            low = words[i].low
            is_prep = low in ("in", "at") and title and n + 1 < len(free) and free[n + 1] == i + 1
            if is_prep and not words[i + 1].low.isdecimal():
                into = place
                continue
            if into is place and place and i != place[-1] + 1 and low not in ("the",):
                into = title
            into.append(i)
        if quoted is not None:
            return words[quoted].text.strip('"“”„ '), _joined(words, [i for i in place if i != quoted])
        return _joined(words, title), _joined(words, place)

    # --- which one

    def _fits(self, target: Target, pieces: Pieces, wanted: list[str]) -> bool:
        event, zone = target.event, self.around.zone
        start, end = event.span(zone)
        for when in pieces.whens:
            low, high = self._period(when, pieces)
            if low is not None and high is not None and not (start < high and (end > low or start == end >= low)):
                return False
            if when.from_ is not None and when.until is None and not when.open_end:
                clock = self._reader().settle(when.from_, when.part)
                if start.astimezone(zone).time().replace(tzinfo=None) not in (clock, when.from_.at):
                    return False
        said = f"{event.title} {event.location} {' '.join(each.address for each in event.attendees)}".lower()
        if any(each.lower() not in said for each in pieces.people):
            return False
        return all(is_said(word, said) for word in wanted)

    def _period(self, when: When, pieces: Pieces) -> tuple[datetime | None, datetime | None]:
        """The stretch that a text speaks of: a day, a part of it, a time to another."""
        if when.days is None and when.from_ is None and not when.part:
            return None, None
        first = when.days.first if when.days else self.wall.date()
        last = (when.until_days or when.days or Days(first, first)).last
        low, high = self._moment(first, time(0)), self._moment(last + _DAY, time(0))
        reader = self._reader()
        if when.part:
            hours = {
                "morning": (6, 12),
                "afternoon": (12, 18),
                "evening": (17, 24),
                "night": (17, 28),
                "lunch": (11, 14),
                "lunchtime": (11, 14),
            }[when.part]
            low, high = low + timedelta(hours=hours[0]), self._moment(last, time(0)) + timedelta(hours=hours[1])
        if when.from_ is not None:
            if when.until is not None:
                from_, until = _settled_range(reader, when.from_, when.until, when.part)
                return self._moment(first, from_), self._moment(last + (_DAY if until <= from_ else timedelta()), until)
            clock = self._moment(first, reader.settle(when.from_, when.part))
            if when.open_end == "after":
                return clock, high
            if when.open_end == "before":
                return low, clock
        return low, high

    def _find(self, pieces: Pieces, wanted: list[str], *, most: timedelta = _YEAR) -> list[Target]:
        """The events that are meant, in order of start; series as their coming occurrences."""
        low, high = self.around.now - 7 * _DAY, self.around.now + most
        for when in pieces.whens:
            period = self._period(when, pieces)
            if period[0] is not None and period[1] is not None:
                low, high = period[0] - _DAY, period[1] + _DAY
        by_calendar: dict[str, list[Event]] = {}
        for each in self.around.agenda:
            by_calendar.setdefault(each.calendar, []).append(each.event)
        found: list[Target] = []
        for name, events in by_calendar.items():
            meant = [each for each in events if not each.cancelled and (not wanted or self._may_fit(each, wanted))]
            found += [Target(name, each) for each in expand_events(meant, low, high, self.around.zone)]
        fit = [each for each in found if self._fits(each, pieces, wanted)]
        return sorted(fit, key=lambda each: each.event.span(self.around.zone)[0])

    def _may_fit(self, event: Event, wanted: list[str]) -> bool:
        said = f"{event.title} {event.location} {' '.join(each.address for each in event.attendees)}".lower()
        return all(is_said(word, said) for word in wanted)

    def _is_about_known(self, core: list[str]) -> bool:
        tail = core[core.index("to") + 1 :] if "to" in core else []
        wanted = [low for low in tail if low not in FILLERS]
        return bool(tail and tail[0] in IT) or (
            bool(wanted) and any(self._may_fit(each.event, wanted[:1]) for each in self.around.agenda)
        )

    def _names_people(self, core: list[str]) -> bool:
        known = {name.lower() for name in self.around.people}
        return any(low in known or "@" in low for low in core)

    def _names_only_people(self, lows: list[str]) -> bool:
        known = {name.lower() for name in self.around.people}
        return bool(lows) and all(
            low in known or "@" in low or low in ("and", ",", "too", "as", "well") for low in lows
        )

    def _refers(self, begin: int, end: int | None = None) -> bool:
        """Whether the words say it, that, the meeting, the last one: what was spoken of last."""
        lows = [word.low for word in self.words[begin:end]]
        return any(low in IT for low in lows[:3]) or lows[:2] in (
            ["the", "meeting"],
            ["the", "event"],
            ["the", "last"],
            ["the", "appointment"],
        )

    def _targets(self, pieces: Pieces, wanted: list[str], *, refers: bool) -> list[Target]:
        if refers and self.around.last and not wanted:
            return list(self.around.last)
        found = self._find(pieces, wanted) or self._find_called(wanted)
        upcoming = [each for each in found if each.event.span(self.around.zone)[1] > self.around.now]
        return upcoming or found

    def _find_called(self, wanted: list[str]) -> list[Target]:
        """Events whose whole title stands in the text, and has a day or a time in it: Good Friday."""
        said = f" {' '.join(word.low for word in self.words)} "
        meant = []
        for each in self.around.agenda:
            title = each.event.title.lower()
            if f" {title} " in said and set(title.split()) - set(wanted) - FILLERS:
                meant.append(each)
        low, high = self.around.now - _DAY, self.around.now + _YEAR
        found = [
            Target(each.calendar, occurrence)
            for each in meant
            for occurrence in expand_events([each.event], low, high, self.around.zone)
        ]
        return sorted(found, key=lambda each: each.event.span(self.around.zone)[0])

    def _ask(self, question: str, *missing: str) -> Request:
        self.request.intent, self.request.question, self.request.missing = "ask", question, list(missing)
        return self.request

    def _which(self, found: list[Target], wanted: list[str], verb: str) -> Request | None:
        """A question where nothing fits, or several different events do."""
        self.request.targets = found
        if not found:
            said = f' "{" ".join(wanted)}"' if wanted else " then"
            return self._ask(f"I find nothing{said}. Which event is meant?", "which")
        if len({each.event.uid for each in found}) > 1:
            lines = [f"{n}. {show_target(each, self.around.zone)}" for n, each in enumerate(found[:8], 1)]
            return self._ask(f"Which one shall I {verb}?\n" + "\n".join(lines), "which")
        self.request.targets = found[:1]
        return None

    # --- delete

    def _delete(self, begin: int) -> Request:
        request = self.request
        request.intent = "delete"
        lows = [word.low for word in self.words]
        pieces = self._pieces(begin)
        if doubt := self._doubt(pieces):
            return self._ask(doubt, "start")
        everything = bool({"everything", "all", "anything"} & set(lows)) or (
            lows[begin - 1] in ("clear", "wipe") and bool(pieces.whens)
        )
        wanted = [low for low in self._title_words(pieces, begin) if low not in DELETE_FILLERS]
        if "series" in lows or ("all" in lows and wanted) or pieces.repeat:
            request.scope = "all"
        found = self._targets(pieces, wanted, refers=self._refers(begin))
        if everything and not wanted:
            if not pieces.whens:
                return self._ask("Of which day or time?", "start")
            request.period = self._first_period(pieces)
            request.targets = [each for each in found if self._lies_in(each.event, request.period)]
            if not request.targets:
                said = (
                    "There is nothing then"
                    if not found
                    else f"Only {show_target(found[0], self.around.zone)} reaches into that time"
                )
                return self._ask(f"{said}. Which event is meant?", "which")
            return request
        if not wanted and not pieces.whens and not self._refers(begin):
            return self._ask("Which event is meant?", "which")
        if (asked := self._which(found, wanted, "delete")) is not None:
            return asked
        request.intent = "delete"
        return request

    def _lies_in(self, event: Event, period: tuple[datetime, datetime] | None) -> bool:
        """Whether "everything" of a time means this event: it begins then, and whole days only where all of them are meant."""
        if period is None:
            return True
        start, end = event.span(self.around.zone)
        return period[0] <= start < period[1] and (not event.is_whole_day or end <= period[1])

    def _first_period(self, pieces: Pieces) -> tuple[datetime, datetime] | None:
        for when in pieces.whens:
            low, high = self._period(when, pieces)
            if low is not None and high is not None:
                return low, high
        return None

    # --- change

    def _change(self, verb: str, begin: int) -> Request:
        request = self.request
        request.intent = "change"
        lows = [word.low for word in self.words]
        split = self._split(lows, begin, verb)
        which = self._pieces(begin + (verb != "remind"), split)
        new_begin = len(lows) if split is None else split + (lows[split] in ("to", "until", "by", "at", "on", "for"))
        new = self._pieces(new_begin) if split is not None else Pieces([])
        for pieces in (which, new):
            if doubt := self._doubt(pieces):
                return self._ask(doubt, "start")
        wanted = [low for low in self._title_words(which, begin) if low not in CHANGE_FILLERS]
        known = {name.lower(): name for name in self.around.people}
        people = (
            [known.get(low, low) for low in wanted if low in known]
            if verb in ("add", "invite", "uninvite", "put")
            else []
        )
        wanted = [low for low in wanted if known.get(low) not in people]
        if "series" in lows or "all" in lows or "every" in lows:
            request.scope = "all"
        refers = self._refers(begin + 1, split) or self._refers(new_begin)
        if verb in ("add", "invite", "put") and people:
            wanted += [low for low in self._title_words(new, new_begin) if low not in known]
            new = Pieces([])
        refers = refers or bool((people or which.people) and not wanted and not which.whens and self.around.last)
        if not wanted and not which.whens and not refers:
            return self._ask("Which event is meant?", "which")
        found = self._targets(which, wanted, refers=refers)
        if (asked := self._which(found, wanted, "change")) is not None:
            return asked
        request.intent = "change"
        target = request.targets[0]
        if people or which.people:
            side = "without" if verb in ("uninvite", "remove") else "attendees"
            request.changes[side] = [*people, *which.people]
            return request
        self._changes(target.event, verb, which, new, lows, new_begin)
        if not request.changes and verb in ("move", "shift") and not new.claimed and lows[new_begin - 1] == "to":
            request.changes["location"] = _joined(new.words, list(range(len(new.words))))
        if not request.changes:
            return self._ask("What shall be changed?", "changes")
        start = request.changes.get("start")
        if isinstance(start, datetime) and start < self.around.now:
            return self._ask(f"{show_moment(start)} is past. Is that meant?", "start")
        return request

    def _correct(self, begin: int) -> Request | None:
        """No, 4pm: another time for what was spoken of last."""
        pieces = self._pieces(begin + 1)
        if not pieces.whens or set(self._title_words(pieces, begin)) - {"no", "rather", "make", "instead"}:
            return None
        if doubt := self._doubt(pieces):
            return self._ask(doubt, "start")
        self.request.intent, self.request.targets = "change", list(self.around.last[:1])
        lows = [word.low for word in self.words]
        self._changes(self.around.last[0].event, "move", Pieces([]), pieces, lows, begin + 1)
        start = self.request.changes.get("start")
        if isinstance(start, datetime) and start < self.around.now:
            return self._ask(f"{show_moment(start)} is past. Is that meant?", "start")
        return self.request if self.request.changes else None

    def _split(self, lows: list[str], begin: int, verb: str) -> int | None:
        """Where what it becomes begins: behind the last `to`, or where a distance begins."""
        for word in ("to", "until"):
            places = [i for i in range(begin + 2, len(lows) - 1) if lows[i] == word]
            for i in places:
                if not (i > 1 and lows[i - 1].isdecimal() and lows[i + 1].isdecimal()):
                    return i
        reader = self._reader()
        for i in range(begin + 1, len(lows)):
            if lows[i] == "by" and i + 1 < len(lows):
                return i
            is_distance = verb in BY_A_DISTANCE or DIRECTIONS & set(lows[i:])
            if reader.length(i) is not None and is_distance:
                return i
        for i in range(begin + 2, len(lows)):
            if verb in ("move", "shift", "push", "postpone", "reschedule", "bump", "bring", "pull") and (
                reader.days(i) is not None or reader.clock(i + (lows[i] == "at"), bare=lows[i] == "at")
            ):
                return i
        for i in range(begin + 2, len(lows)):
            if self.words[i].is_quoted or lows[i] in ("as", "called", "busy", "free", "tentative"):
                return i
        return None

    def _changes(self, event: Event, verb: str, which: Pieces, new: Pieces, lows: list[str], new_begin: int) -> None:
        changes, zone = self.request.changes, self.around.zone
        start, end = event.span(zone)
        distance = new.length
        sooner = bool({"earlier", "forward", "sooner"} & set(lows)) or verb in ("bring", "advance", "pull")
        if verb in ("rename", "retitle", "call") or {"title", "name"} & set(lows[:new_begin]):
            title, _ = self._title_and_place(new, new_begin)
            if title:
                changes["title"] = title
            return
        if {"place", "location", "room"} & set(lows[:new_begin]):
            changes["location"] = _joined(new.words, [i for i in range(len(new.words)) if i not in new.claimed])
            return
        if new.alarm is not None or which.alarm is not None:
            changes["alarm"] = new.alarm if new.alarm is not None else which.alarm
            return
        if {"tentative", "busy", "free"} & set(lows) and verb in ("mark", "set", "make", "change"):
            changes["busy"] = {"free": "no", "busy": "yes"}.get(
                next(low for low in lows if low in ("tentative", "busy", "free")), "tentative"
            )
            return
        when = next(iter(new.whens), None)
        if distance is not None and when is None:
            if verb in ("extend", "lengthen", "prolong") or {"longer", "long"} & set(lows):
                is_total = (lows[new_begin - 1] == "to" or "long" in lows) and "longer" not in lows
                changes["end"] = self._after(start if is_total else end, distance)
            elif verb == "shorten" or "shorter" in lows:
                is_total = lows[new_begin - 1] == "to"
                changes["end"] = (
                    self._after(start, distance)
                    if is_total
                    else self._after(end, Span(-distance.minutes, -distance.days))
                )
            else:
                back = Span(-distance.minutes, -distance.days, -distance.months) if sooner else distance
                changes["start"], changes["end"] = self._after(start, back), self._after(end, back)
            return
        if when is None:
            return
        if verb in ("extend", "shorten", "lengthen", "prolong") and when.from_ is not None and when.days is None:
            changes["end"] = self._moment(end.astimezone(zone).date(), self._reader().settle(when.from_, when.part))
            return
        if when.days is None and when.from_ is not None:
            when.days = Days(start.astimezone(zone).date(), start.astimezone(zone).date())
            begin, finish = self._span_of(when, None, default=0)
        elif when.from_ is None and when.days is not None and not event.is_whole_day:
            local = start.astimezone(zone)
            begin = self._moment(when.days.first, local.time())
            finish = None
        else:
            begin, finish = self._span_of(when, None, default=0)
        if not isinstance(begin, datetime):
            keeps = event.is_whole_day and when.until_days is None and begin is not None
            changes["start"], changes["end"] = begin, begin + (event.end - event.start) if keeps else finish  # type: ignore[operator]
            return
        has_end = when.until is not None or when.length is not None
        changes["start"] = begin
        changes["end"] = finish if has_end else self._after(begin, Span(round((end - start).total_seconds() / 60)))

    # --- questions

    def _question(self, core: list[str], begin: int) -> Request:
        request = self.request
        pieces = self._pieces(begin)
        if doubt := self._doubt(pieces):
            return self._ask(doubt, "start")
        is_free = bool({"free", "available", "availability"} & set(core)) or (
            core[0] in ("am", "are") and "busy" in core
        )
        if is_free or ("find" in core[:1] and pieces.length is not None):
            return self._free(pieces, core)
        wanted = [low for low in self._title_words(pieces, begin) if low not in QUERY_FILLERS]
        is_about_time = bool(pieces.whens) or {
            "next",
            "agenda",
            "schedule",
            "calendar",
            "today",
            "events",
            "meetings",
            "upcoming",
            "happening",
        } & set(core)
        asks_one = core[0] in ("when", "when's", "where", "where's", "who", "who's", "what", "how") and bool(wanted)
        if not is_about_time and not asks_one and not (core[0] in ("show", "list", "find") and wanted):
            return Request("none", because=request.because)
        found = self._find(pieces, wanted)
        if not pieces.whens:
            found = [each for each in found if each.event.span(self.around.zone)[1] > self.around.now]
        if not (pieces.whens or found or is_about_time) and core[0] in ("what", "what's", "how", "who"):
            return Request("none", because=request.because)
        request.intent = "query"
        if ("next" in core and not any(when.days for when in pieces.whens)) or (
            core[0] in ("when", "when's", "where", "where's") and wanted
        ):
            found = found[:1]
        request.targets, request.count = found, len(found)
        request.wants_count = "many" in core
        request.period = self._first_period(pieces)
        return request

    def _free(self, pieces: Pieces, core: list[str]) -> Request:
        request = self.request
        request.intent = "free"
        zone = self.around.zone
        period = self._first_period(pieces)
        when = next(iter(pieces.whens), None)
        length = (when.length if when else None) or pieces.length
        is_point = when is not None and when.from_ is not None and when.until is None and not when.open_end
        if is_point and when is not None:
            start, end = self._span_of(when, length, default=self.around.length)
            assert isinstance(start, datetime)
            assert isinstance(end, datetime)
            period = (start, end)
        if period is None:
            period = (self.around.now, self._moment(self.wall.date() + _DAY, time(0)))
            if "when" in core or length is not None:
                period = (self.around.now, self._moment(self.wall.date() + 7 * _DAY, time(0)))
        request.period = period
        low, high = period
        busy: list[Target] = []
        by_calendar: dict[str, list[Event]] = {}
        for each in self.around.agenda:
            by_calendar.setdefault(each.calendar, []).append(each.event)
        for name, events in by_calendar.items():
            busy += [Target(name, each) for each in expand_events(events, low, high, zone) if each.takes_time]
        request.targets = sorted(busy, key=lambda each: each.event.span(zone)[0])
        taken = [each.event.span(zone) for each in request.targets]
        wants_slots = bool({"when", "find", "which", "what"} & set(core)) or (length is not None and not is_point)
        request.slots = free_gaps(low, high, taken, self.around, length) if wants_slots or taken else [(low, high)]
        if wants_slots:
            request.free = bool(request.slots)
        else:
            is_busy_asked = "busy" in core and "free" not in core
            request.free = not taken
            if is_busy_asked:
                self.request.because.append(Because("busy", (0, 0), "asked the other way round"))
        return request


def _is_no_day(words: Sequence[Word]) -> bool:
    """Whether a short name of a day is rather a word of the sentence: the sun is out, she sat down."""
    lows = [word.low for word in words]
    if "sun" in lows and lows[max(0, lows.index("sun") - 1)] == "the":
        return True
    return "sat" in lows[1:] and lows[lows.index("sat") - 1] in (
        "i",
        "he",
        "she",
        "we",
        "they",
        "it",
        "you",
        "who",
        "and",
    )


def _verb(low: str) -> str:
    found = spelled(low, frozenset(VERB_OF))
    return VERB_OF[found] if found else ""


def _settled_range(reader: TimeReader, first: Clock, second: Clock, part: str) -> tuple[time, time]:
    """Both ends of a range: what the second one says of am and pm holds for the first where that gives an order. After a first
    hour of the 24-hour clock the second one is of it too."""
    if not first.is_open and first.at.hour >= 13 and second.is_open:
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


def _first_of(rule: str, day: date) -> date:
    """The first day of a rule from a day on."""
    from whenvoca.calendars.rules import parse_rule

    wall = datetime.combine(day, time())
    plain = ";".join(part for part in rule.split(";") if not part.startswith(("UNTIL", "COUNT")))
    single = plain.replace("INTERVAL=2", "INTERVAL=1")
    for each in parse_rule(single, wall, UTC):
        found: date = each.date()
        return found
    return day


def _joined(words: Sequence[Word], places: list[int]) -> str:
    """These words as a title: without articles and little words at its ends."""
    left = list(places)
    while left and words[left[0]].low in ENDS and len(left) > 1:
        left.pop(0)
    while left and words[left[-1]].low in ENDS:
        left.pop()
    if len(left) == 1 and words[left[0]].low in ENDS:
        return ""
    pieces: list[str] = []
    for n, i in enumerate(left):
        glue = "" if not n or (words[i].begin == words[left[n - 1]].end) else " "
        pieces.append(glue + words[i].text)
    return "".join(pieces).strip('"“”„ ')
