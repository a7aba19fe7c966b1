"""Finds the typed pieces of a request; each claims its words, and what is left is the title or says which event is
meant."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import datetime, time, timedelta
from zoneinfo import ZoneInfo

from whenvoca.speech.clocks import Clock, Span
from whenvoca.speech.pieces import Pieces, When, said_as
from whenvoca.speech.repetition import RepetitionFinder
from whenvoca.speech.times import Days, TimeReader
from whenvoca.speech.words import NUMBERS, WEEKDAYS, Word, look_up

_DAY = timedelta(days=1)
_MET = ("meet", "see", "call", "visit", "ring", "phone", "write", "ask", "thank")


class Finder:
    """Finds the pieces of a text."""

    def __init__(
        self,
        words: Sequence[Word],
        now: datetime,
        zone: ZoneInfo,
        order: str,
        people: Mapping[str, str],
        *,
        bare: bool = False,
    ) -> None:
        self.words, self.zone, self._bare = words, zone, bare
        self.reader = TimeReader(words, now, order)
        self.pieces = Pieces(words)
        self._people = people
        self._repetition = RepetitionFinder(self.reader, self.pieces)

    def find(self) -> Pieces:
        """All pieces, from the first word to the last."""
        i = 0
        while i < len(self.words):
            if i in self.pieces.claimed:
                i += 1
                continue
            i = (
                self._calendar(i)
                or self._late(i)
                or self._repetition.find(i)
                or self._reminder(i)
                or self._when(i)
                or self._for_length(i)
                or self._person(i)
                or i + 1
            )
        self._give_back()
        for each in self.pieces.whens if self._repetition.part else ():
            each.part = each.part or self._repetition.part
        return self.pieces

    def _give_back(self) -> None:
        """Noon or midnight before a word is part of a title where another time is said: midnight snack at 23:00."""
        dated = [each for each in self.pieces.whens if each.days is not None]
        for each in dated if any(other.from_ is not None for other in dated) and len(dated) > 1 else ():
            if each.from_ is None and self._names_a_thing(each):
                self.pieces.whens.remove(each)
                self.pieces.claimed -= set(range(each.begin, each.end))
        timed = [each for each in self.pieces.whens if each.from_ is not None]
        if len(timed) < 2 or not any(each.is_led or each.days is not None for each in timed):
            return
        for each in timed:
            if each.days is None and not each.is_led and self._low(each.begin) in ("noon", "midnight", "midday"):
                self.pieces.whens.remove(each)
                self.pieces.claimed -= set(range(each.begin, each.end))

    def _names_a_thing(self, when: When) -> bool:
        """Sunday roast on monday; 2nd inspection on monday: a day alone before a word, where another one is said with a
        time."""
        i = when.begin
        if when.end - i != 1 or self._low(i - 1) in ("on", "the", "and", ",", "&", "or", "next", "this", "from"):
            return False
        follows = self._low(when.end)
        return (
            bool(follows)
            and when.end not in self.pieces.claimed
            and follows not in ("and", ",", "&", "or", "to", "-", "at", "on")
        )

    def _low(self, i: int) -> str:
        return self.reader.low(i)

    def _late(self, i: int) -> int:
        """Till late: no end that could be told."""
        if self._low(i) in ("till", "until") and self._low(i + 1) in ("late", "whenever", "further"):
            end = i + 2 + (self._low(i + 2) == "notice")
            self.pieces.claim(i, end, "no end")
            return end
        return 0

    def _calendar(self, i: int) -> int:
        """In my calendar: where everything is that is spoken of."""
        if self._low(i) not in ("in", "to", "into", "on", "from", "off", "for"):
            return 0
        j = i + 1 + (self._low(i + 1) in ("my", "the", "our", "your"))
        if self._low(j) not in ("calendar", "agenda", "diary", "schedule", "calendars") or j == i + 1:
            return 0
        self.pieces.claim(i, j + 1, "the calendar")
        return j + 1

    def _reminder(self, i: int) -> int:
        """Remind me 10 minutes before; with a reminder 15 min before; alarm 1 hour before."""
        is_told = self._low(i) in ("ring", "ping", "warn", "tell", "wake") and self._low(i + 1) in ("me", "us")
        if self._low(i) not in ("remind", "reminder", "alarm", "alert", "notify") and not is_told:
            return 0
        j = i + 1
        while self._low(j) in ("me", "us", "of", "at", "set", "to", ":", "it"):
            j += 1
        found = self.reader.length(j)
        if found is None:
            return self._length_before(i)
        end, span = found
        tail = 0
        while self._low(end + tail) in ("before", "earlier", "ahead", "beforehand", "prior", "in", "advance"):
            tail += 1
        if not tail and self._low(i) == "remind":
            return 0
        begin = i
        while begin and self._low(begin - 1) in ("a", "an", "with", "and", ",", "the", "set", "add"):
            begin -= 1
        self.pieces.reminder = span.minutes + 1440 * span.days
        self.pieces.claim(begin, end + tail, f"reminder {self.pieces.reminder} minutes before")
        return end + tail

    def _length_before(self, i: int) -> int:
        """A reminder to the dentist an hour before: the length stands behind."""
        for k in range(i + 1, len(self.words)):
            found = self.reader.length(k)
            if found is not None and self._low(found[0]) in ("before", "ahead", "earlier", "beforehand"):
                self.pieces.reminder = found[1].minutes + 1440 * found[1].days
                self.pieces.claim(k, found[0] + 1, f"reminder {self.pieces.reminder} minutes before")
                first = i - (self._low(i - 1) in ("a", "an", "the"))
                self.pieces.claim(
                    first - (self._low(first - 1) in ("add", "set", "put", "make", "create")), i + 1, "alarm"
                )
                return i + 1
        return 0

    def _person(self, i: int) -> int:
        """An address; or with NAME, where the name is known."""
        if "@" in self._low(i):
            begin = i - (self._low(i - 1) in ("with", "w", "and", "invite", ","))
            self.pieces.people.append(self.words[i].text)
            if self._low(i - 1) in _MET:
                return i + 1  # it is part of what is said
            self.pieces.claim(max(begin, 0), i + 1, "attendee")
            return i + 1
        if self._low(i) not in ("with", "w", "invite", "inviting"):
            return 0
        end, j = 0, i + 1
        while j < len(self.words):
            if self._low(j) in self._people:
                self.pieces.people.append(self._people[self._low(j)])
            elif self._low(j).removesuffix("'s") in self._people:
                self.pieces.people.append(self._people[self._low(j).removesuffix("'s")])
            elif "@" in self._low(j):
                self.pieces.people.append(self.words[j].text)
            else:
                break
            end, j = j + 1, j + 1
            j += self._low(j) in ("and", ",", "&")
        if end and self._low(end - 1) in ("and", "&", ",") and self._is_plain(end):
            return end  # with tomas and the mayor: all of it stays in the title
        if end and self._low(end) in ("and", "&") and self._is_plain(end + 1):
            return end
        if end:
            self.pieces.claim(i, end, "attendees")
        return end

    def _is_plain(self, i: int) -> bool:
        """Whether a word is none of a time."""
        i += self._low(i) in ("the", "a", "an", "our")
        return i < len(self.words) and self.reader.days(i) is None and self.reader.clock(i, bare=True) is None

    # --- when

    def _for_length(self, i: int) -> int:
        """For 45 minutes; 2 hours; all day."""
        if self._low(i) in ("all-day", "allday", "whole-day"):
            self.pieces.length = Span(days=1)
            self.pieces.claim(i, i + 1, "whole day")
            return i + 1
        if [self._low(i), self._low(i + 1)] in (["all", "day"], ["whole", "day"], ["full", "day"]):
            self.pieces.length = Span(days=1)
            begin = i - (self._low(i - 1) in ("the", "for"))
            end = i + 2 + (self._low(i + 2) == "long")
            self.pieces.claim(begin, end, "whole day")
            return end
        j = i + (self._low(i) in ("for", "lasting", "of"))
        found = self.reader.length(j)
        if found is None or (
            j == i and self._low(i) in NUMBERS and self._low(i) not in ("a", "an", "half", "two", "three", "one")
        ):
            return 0
        if j == i and self._low(found[0]) in ("before", "ago", "from", "after"):
            return 0
        self.pieces.length = found[1]
        self.pieces.claim(i, found[0], f"a length of {found[1].told()}")
        return found[0]

    def _when(self, i: int) -> int:
        """Days and times that stand together, in either order."""
        when = When(i, i)
        if (end := self._relative(i, when)) != 0:
            self.pieces.whens.append(when)
            self.pieces.claim(i, end, f"{when.relative:%Y-%m-%d %H:%M}")
            return end
        end, j = i, i
        while j < len(self.words) and j not in self.pieces.claimed:
            step = self._one_of_when(j, when, is_first=end == i)
            if not step:
                break
            end = j = step
            while self._low(j) in (",",) and self._one_of_when(j + 1, When(0, 0), is_first=False):
                j += 1
        if end == i:
            return 0
        when.end = end
        self.pieces.whens.append(when)
        self.pieces.claim(i, end, said_as(when))
        return end

    def _relative(self, i: int, when: When) -> int:
        """In 20 minutes, two hours from now."""
        j = i + (self._low(i) == "in")
        found = self.reader.length(j)
        if found is None or found[1].days or found[1].months:
            return 0
        end = found[0]
        if self._low(end) == "from" and self._low(end + 1) == "now":
            end += 2
        elif self._low(i) != "in" or self._low(end) in ("before", "after"):
            return 0
        when.relative, when.end = found[1].added_to(self.reader.now.replace(second=0, microsecond=0)), end
        return end

    def _one_of_when(self, j: int, when: When, *, is_first: bool) -> int:
        """One more piece of a stretch: a day, a time, a range, a part of the day, a length. 0 where there is none."""
        if when.days is None and self._low(j) == "between" and (between := self._between(j + 1, when)):
            return between
        if when.days is None and (found := self.reader.days(j)) is not None:
            end, when.days = found
            if when.days.part and not when.part:
                when.part = when.days.part
            if when.from_ is None:
                end = self._until_day(end, when)
            return end
        if (
            not when.part
            and (part := self.reader.part(j)) is not None
            and (is_first is False or self._low(j) in ("this", "in", "at", "over", "during", "for", "my", "the"))
        ):
            end, when.part = part
            if self._low(j) == "this" and when.days is None:
                when.days = Days(self.reader.today, self.reader.today)
            return end
        if when.from_ is None and (end := self._times(j, when)):
            return end
        if (
            when.from_ is not None
            and when.until is None
            and when.length is None
            and self._low(j) in ("until", "till", "to", "-")
        ):
            return self._until(j + 1, when)
        if when.from_ is not None and when.until is None and when.length is None and self._low(j) == "for":
            found_length = self.reader.length(j + 1)
            if found_length is not None:
                when.length = found_length[1]
                return found_length[0]
        return 0

    def _between(self, j: int, when: When) -> int:
        """Between monday and wednesday: both days and those between them."""
        first = self.reader.days(j)
        if first is not None and first[1].is_period and first[1].last > first[1].first:
            when.days = first[1]  # between 24 and 26 march
            return first[0]
        if first is None or self._low(first[0]) != "and":
            return 0
        when.days = first[1]
        end = self._until_day(first[0], when, join=("and",))
        if end == first[0]:
            when.days = None
            return 0
        return end

    def _until(self, j: int, when: When) -> int:
        """A time at which it ends, behind a day: from 10 tonight until 4 in the morning."""
        found = self.reader.clock(j + (self._low(j) in ("around", "about")), bare=True)
        if found is None:
            return 0
        end, clock = found
        day = self.reader.days(end) if when.until_days is None else None
        if day is not None:
            end, when.until_days = day
        part = self.reader.part(end) if self._low(end) in ("in", "at") else None
        if part is not None:
            end = part[0]
            clock = Clock(self.reader.settle(clock, part[1]))
        when.until = clock
        return end

    def _until_day(self, end: int, when: When, join: Sequence[str] = ("to", "until", "till", "-", "through")) -> int:
        if self._low(end) not in join:
            return end
        found = self.reader.days(end + 1)
        if found is None:
            return end
        when.until_days = found[1]
        if (
            when.days is not None
            and found[1].last < when.days.first
            and look_up(self.words[found[0] - 1], WEEKDAYS) is not None
        ):
            weeks = (when.days.first - found[1].last).days // 7 + 1  # monday to friday, said on a wednesday
            when.until_days = Days(found[1].first + 7 * weeks * _DAY, found[1].last + 7 * weeks * _DAY)
        return found[0]

    def _times(self, j: int, when: When) -> int:
        """At 3, 9-10am, from 2 to 4, between 10 and 11:30, after lunch, before noon."""
        lead = self._low(j)
        k = j + (
            lead
            in ("at", "from", "between", "after", "before", "since", "by", "around", "about", "until", "till", "past")
        )
        k += self._low(k) in ("around", "about", "exactly")
        if lead in ("after", "before") and self._low(k) in ("lunch", "work"):
            when.open_end = lead
            when.from_ = Clock(time(13) if self._low(k) == "lunch" else time(17, 30))
            return k + 1
        is_led = k > j or (self._bare and j == 0 and self.reader.length(j) is None)
        when.is_led = is_led and lead in ("at", "@")
        if self._low(k + 1) == "h" and not k > j and any(each.from_ is not None for each in (*self.pieces.whens, when)):
            return 0  # a length behind a time
        is_dated = when.days is not None or (
            len(self._low(k)) == 4
            and self._low(k).isdecimal()
            and self._low(k - 1) not in ("in", "since", "of")
            and self.reader.days(k + 1) is not None
        )
        is_ranged = self._low(k + 1) in ("-", "to", "until", "till") and self.reader.clock(k + 2) is not None  # 8-10pm
        first = self.reader.clock(k, bare=is_led or is_dated or is_ranged)
        if first is None:
            return 0
        end, clock = first
        joins = ("to", "-", "until", "till", "and") if lead in ("between", "from") else ("to", "-", "until", "till")
        second = (
            self.reader.clock(end + 1, bare=True)
            if self._low(end) in joins and not (self._low(end) == "and" and lead != "between")
            else None
        )
        if not is_led and not is_dated and second is None and clock.is_open and not _is_surely(self.words, k, end):
            return 0
        if second is not None:
            day = self.reader.days(end + 1)
            if day is not None and day[0] > second[0]:
                when.from_ = clock
                when.until_days = day[1]
                rest = self.reader.clock(day[0] + (self._low(day[0]) == "at"), bare=True)
                when.until = rest[1] if rest else None
                return rest[0] if rest else day[0]
            when.from_, when.until = clock, second[1]
            return second[0]
        if self._low(end) in ("to", "until", "till", "-") and (day := self.reader.days(end + 1)) is not None:
            rest = self.reader.clock(day[0] + (self._low(day[0]) == "at"), bare=True)
            if rest is not None:
                when.from_, when.until_days, when.until = clock, day[1], rest[1]
                return rest[0]
        if lead in ("after", "before", "since", "by", "until", "till"):
            when.open_end = "after" if lead in ("after", "since") else "before"
        when.from_ = clock
        return end


def _is_surely(words: Sequence[Word], begin: int, end: int) -> bool:
    """Whether the words can be nothing but a time."""
    return end - begin > 1 or ":" in words[begin].low or words[begin].low in ("noon", "midnight", "midday")
