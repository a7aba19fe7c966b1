"""How often: every monday and thursday until june 30, daily, the first monday of every month, the next three
thursdays."""

from __future__ import annotations

from typing import Any

from whenvoca.speech.pieces import Pieces
from whenvoca.speech.request import Because
from whenvoca.speech.times import TimeReader
from whenvoca.speech.words import ORDINALS, UNITS, WEEKDAYS, look_up, number_of

_FREQUENCIES = {"day": "DAILY", "week": "WEEKLY", "month": "MONTHLY"}
_CODES = ("MO", "TU", "WE", "TH", "FR", "SA", "SU")


class RepetitionFinder:
    """Finds repetitions (RFC 5545 3.3.10) among words, and notes them in ``pieces``. ``part`` is that of the day: every
    evening."""

    def __init__(self, reader: TimeReader, pieces: Pieces) -> None:
        self.reader, self.pieces, self.words = reader, pieces, reader.words
        self.part = ""
        self.rule = ""

    def _low(self, i: int) -> str:
        return self.reader.low(i)

    def find(self, i: int) -> int:
        """Every monday and thursday until june 30; daily; the first monday of every month. 0 where there is none."""
        rule, end = "", i
        low = self._low(i)
        if low in ("repeat", "repeating", "repeated") and (end := self.find(i + 1)):
            self.pieces.claim(i, i + 1, "repeats")
            return end
        if counted := self._next_ones(i):
            return counted
        if low in ("fortnightly", "weekends", "weekdays") or (
            low == "on" and self._low(i + 1) in ("weekends", "weekdays")
        ):
            return self._plain_repetition(i + (low == "on"))
        on = i + (low == "on" and self._is_plural_day(i + 1))
        if self._is_plural_day(on) and (plural := self._weekdays(on)):
            rule, end = f"FREQ=WEEKLY;BYDAY={','.join(_CODES[d] for d in plural[1])}", plural[0]
        elif low in ("daily", "weekly", "monthly", "yearly") and i not in self.pieces.claimed:
            rule, end = f"FREQ={low.upper()}", i + 1
            if low == "monthly":
                rule, end = self._monthly(i + 1, "")
            days: Any = [] if low != "weekly" else self._weekdays(end + (self._low(end) == "on"))
            if days:
                rule, end = f"FREQ=WEEKLY;BYDAY={','.join(_CODES[d] for d in days[1])}", days[0]
        elif (
            (found := self._day_of_every(i))
            or (low == "on" and (found := self._nth_of_every(i + 1)))
            or (low in ("the", "first", "second", "third", "fourth", "last") and (found := self._nth_of_every(i)))
        ):
            rule, end = found
        elif low in ("every", "each"):
            found = self._every(i + 1)
            if not found:
                return 0
            rule, end = found
        if not rule:
            return 0
        self.rule = rule
        end = self._repeat_end(end)
        self.pieces.repeat = rule
        self.pieces.claim(i, end, f"repeat {rule}")
        return end

    def _next_ones(self, i: int) -> int:
        """The next three thursdays."""
        j = i + (self._low(i) == "on")
        j += self._low(j) == "the"
        count = number_of(self.words[j + 1]) if self._low(j) == "next" and j + 1 < len(self.words) else None
        if not count or not self._is_plural_day(j + 2):
            return 0
        days: Any = self._weekdays(j + 2)
        self.pieces.repeat = self.rule = f"FREQ=WEEKLY;BYDAY={','.join(_CODES[d] for d in days[1])}"
        self.pieces.claim(i, days[0], f"{int(count)} times")
        self.pieces.because.append(Because("count", (0, 0), f"COUNT={int(count) * len(days[1])}"))
        return int(days[0])

    def _plain_repetition(self, i: int) -> int:
        """Fortnightly on monday; on weekdays; at weekends."""
        low, end = self._low(i), i + 1
        rule = {"weekends": "FREQ=WEEKLY;BYDAY=SA,SU", "weekdays": "FREQ=WEEKLY;BYDAY=MO,TU,WE,TH,FR"}.get(
            low, "FREQ=WEEKLY;INTERVAL=2"
        )
        if low == "fortnightly" and (days := self._weekdays(end + (self._low(end) == "on"))):
            rule, end = f"{rule};BYDAY={','.join(_CODES[d] for d in days[1])}", days[0]
        self.rule = self.pieces.repeat = rule
        end = self._repeat_end(end)
        begin = i - (self._low(i - 1) in ("on", "at"))
        self.pieces.claim(begin, end, f"repeat {rule}")
        return end

    def _is_plural_day(self, i: int) -> bool:
        """Tuesdays: every one of them."""
        low = self._low(i)
        return low.endswith("days") and low[:-1] in WEEKDAYS

    def _weekdays(self, i: int) -> tuple[int, list[int]] | tuple[()]:
        found: list[int] = []
        end = i
        while i < len(self.words) and (day := look_up(self.words[i], WEEKDAYS)) is not None:
            found.append(day)
            end = i + 1
            i = end + (self._low(end) in ("and", ",", "&"))
        return (end, found) if found else ()

    def _every(self, i: int) -> tuple[str, int] | tuple[()]:
        interval = 1
        if self._low(i) in ("other", "second", "2nd") and (i + 1 < len(self.words)) and self._low(i + 2) != "of":
            interval, i = 2, i + 1
        elif (
            i + 1 < len(self.words)
            and (count := number_of(self.words[i]))
            and UNITS.get(self._low(i + 1)) in ("day", "week", "month", "year")
        ):
            interval, i = int(count), i + 1
        by = f";INTERVAL={interval}" if interval > 1 else ""
        if days := self._weekdays(i):
            end = days[0]
            if self._low(end) in ("morning", "evening", "night", "afternoon"):
                self.part, end = self._low(end), end + 1
            return f"FREQ=WEEKLY{by};BYDAY={','.join(_CODES[d] for d in days[1])}", end
        low = self._low(i)
        nth = ORDINALS.get(low)
        if nth is not None and i + 1 < len(self.words) and (day := look_up(self.words[i + 1], WEEKDAYS)) is not None:
            tail = 3 if [self._low(i + 2), self._low(i + 3)] in (["of", "month"], ["each", "month"]) else 0
            tail = 4 if [self._low(i + 2), self._low(i + 3), self._low(i + 4)] == ["of", "the", "month"] else tail
            if tail:
                return f"FREQ=MONTHLY;BYDAY={nth}{_CODES[day]}", i + 1 + tail
        if low in ("weekday", "weekdays", "workday"):
            return "FREQ=WEEKLY;BYDAY=MO,TU,WE,TH,FR", i + 1
        unit = UNITS.get(low)
        if unit == "week":
            days = self._weekdays(i + 1 + (self._low(i + 1) == "on"))
            return (
                (f"FREQ=WEEKLY{by};BYDAY={','.join(_CODES[d] for d in days[1])}", days[0])
                if days
                else (f"FREQ=WEEKLY{by}", i + 1)
            )
        if unit == "month":
            return self._monthly(i + 1, by)
        if unit in ("day", "year"):
            return f"FREQ={'DAILY' if unit == 'day' else 'YEARLY'}{by}", i + 1
        if low in ("morning", "evening", "night", "afternoon"):
            self.part = low
            return "FREQ=DAILY", i + 1
        if low == "working" and self._low(i + 1) in ("day", "days"):
            return "FREQ=WEEKLY;BYDAY=MO,TU,WE,TH,FR", i + 2
        return ()

    def _monthly(self, i: int, by: str) -> tuple[str, int]:
        """On which day of the month, where it is said."""
        k = i + (self._low(i) == "on")
        k += self._low(k) == "the"
        ordinal = self._low(k)[:-2] if self._low(k)[-2:] in ("st", "nd", "rd", "th") else ""
        if ordinal.isdecimal() and 1 <= int(ordinal) <= 31:
            return f"FREQ=MONTHLY{by};BYMONTHDAY={ordinal}", k + 1
        nth = ORDINALS.get(self._low(k))
        if nth is not None and k + 1 < len(self.words) and (day := look_up(self.words[k + 1], WEEKDAYS)) is not None:
            return f"FREQ=MONTHLY{by};BYDAY={nth}{_CODES[day]}", k + 2
        return f"FREQ=MONTHLY{by}", i

    def _day_of_every(self, i: int) -> tuple[str, int] | tuple[()]:
        """On the 1st of every month."""
        j = i + (self._low(i) == "on")
        j += self._low(j) == "the"
        number = self._low(j)[:-2] if self._low(j)[-2:] in ("st", "nd", "rd", "th") else ""
        if (
            not number.isdecimal()
            or [self._low(j + 1), self._low(j + 3)] != ["of", "month"]
            or self._low(j + 2) not in ("every", "each")
        ):
            return ()
        return f"FREQ=MONTHLY;BYMONTHDAY={number}", j + 4

    def _nth_of_every(self, i: int) -> tuple[str, int] | tuple[()]:
        j = i + (self._low(i) == "the")
        nth = ORDINALS.get(self._low(j))
        if (
            nth is None
            or j + 1 >= len(self.words)
            or [self._low(j + 2), self._low(j + 3)] not in (["of", "every"], ["of", "each"])
        ):
            return ()
        if self._low(j + 4) != "month":
            return ()
        day = look_up(self.words[j + 1], WEEKDAYS)
        if day is not None:
            return f"FREQ=MONTHLY;BYDAY={nth}{_CODES[day]}", j + 5
        if self._low(j + 1) == "weekday":
            return f"FREQ=MONTHLY;BYDAY=MO,TU,WE,TH,FR;BYSETPOS={nth}", j + 5
        return (f"FREQ=MONTHLY;BYMONTHDAY={nth}", j + 5) if self._low(j + 1) == "day" else ()

    def _repeat_end(self, i: int) -> int:
        """Until when, or how often: it may stand behind the times."""
        for k in range(i, len(self.words)):
            if (
                self._low(k) in ("until", "till")
                and (found := self.reader.days(k + 1)) is not None
                and not found[1].doubt
            ):
                self.pieces.repeat_until = found[1].last
                self.pieces.claim(k, found[0], f"until {found[1].last}")
                break
            count = number_of(self.words[k])
            if count and self._low(k - 1) == "for" and UNITS.get(self._low(k + 1)) in ("day", "week", "month"):
                is_daily = UNITS[self._low(k + 1)] == "week" and "FREQ=DAILY" in self.rule
                if not is_daily and f"FREQ={_FREQUENCIES[UNITS[self._low(k + 1)]]}" not in self.rule:
                    continue
                by = 7 if is_daily else self.rule.count(",") + 1
                self.pieces.claim(k - 1, k + 2, f"{int(count) * by} times")
                self.pieces.because.append(Because("count", (0, 0), f"COUNT={int(count) * by}"))
                break
            if count and self._low(k + 1) == "times":
                self.pieces.repeat_until = None
                self.pieces.claim(k, k + 2, f"{int(count)} times")
                self.pieces.because.append(Because("count", (0, 0), f"COUNT={int(count)}"))
                break
        return i
