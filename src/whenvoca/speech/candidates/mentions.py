"""Which events of the agenda a text may speak of: single ones, occurrences, whole series, and sets of several."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime, timedelta
from functools import cached_property
from itertools import combinations
from math import log
from zoneinfo import ZoneInfo

from msgspec import Struct

from whenvoca.speech.candidates.expanding import expand
from whenvoca.speech.candidates.target_sets import EVERYTHING, STOP_WORDS, Occurrence, TargetSet, stem
from whenvoca.speech.chart.chart import Chart
from whenvoca.speech.chart.piece import DAY, Days, Piece
from whenvoca.speech.request import Target
from whenvoca.speech.titles import AgendaIndex, compared, to_words
from whenvoca.speech.words import is_one_off

_AND_LATER = (
    "all later", "later ones", "all after", "all following", "all future", "and later", "ones after",
    "all of those after",
)  # fmt: skip
_MOST_EVENTS, _MOST_OCCURRENCES = 30, 40


def _tokens(text: str) -> list[str]:
    return [stem(each) for each in to_words(text)]


class Mentions(Struct, dict=True):
    """The events that a text may speak of."""

    chart: Chart
    index: AgendaIndex
    agenda: Sequence[Target]
    zone: ZoneInfo

    @cached_property
    def stems(self) -> list[str]:
        """The text's words as titles are compared with."""
        return [stem(compared(token)) for token in self.chart.text.tokens]

    def _fits(self, word: str, title_word: str) -> bool:
        if word == title_word:
            return True
        if len(word) >= 4 and title_word.startswith(word):
            return True
        if len(title_word) >= 4 and word.startswith(title_word) and len(word) - len(title_word) <= 3:
            return True
        return (
            len(word) >= 5
            and len(title_word) >= 5
            and abs(len(word) - len(title_word)) <= 1
            and is_one_off(word, title_word)
        )

    @cached_property
    def _rarity(self) -> dict[str, float]:
        counts: dict[str, int] = {}
        titles = {each.event.title for each in self.agenda}
        for title in titles:
            for word in set(_tokens(title)):
                counts[word] = counts.get(word, 0) + 1
        total = max(len(titles), 1)
        return {word: log(1 + total / count) * (0.3 if word in STOP_WORDS else 1.0) for word, count in counts.items()}

    @cached_property
    def _timed(self) -> set[int]:
        """The tokens of days and times: by themselves they name no event."""
        pieces = [*self.chart.days, *self.chart.repetitions]
        return {i for each in pieces for i in range(each.begin, each.end)}

    def matched(self, title: str) -> tuple[float, int, bool, set[int]]:
        """How much of a title stands in the text: the share by rarity, how many words, whether whole, and where."""
        if title not in self._matched:
            self._matched[title] = self._match(title)
        return self._matched[title]

    @cached_property
    def _matched(self) -> dict[str, tuple[float, int, bool, set[int]]]:
        return {}

    @cached_property
    def _at_stem(self) -> dict[str, list[int]]:
        """Where each word stands."""
        found: dict[str, list[int]] = {}
        for i, each in enumerate(self.stems):
            found.setdefault(each, []).append(i)
        return found

    def _match(self, title: str) -> tuple[float, int, bool, set[int]]:
        words = _tokens(title)
        places: set[int] = set()
        total = found = 0.0
        count = 0
        for word in words:
            weight = self._rarity.get(word, 1.0)
            total += weight
            at = [i for said, places_ in self._at_stem.items() if self._fits(said, word) for i in places_]
            if at:
                found += weight
                count += word not in STOP_WORDS and any(i not in self._timed for i in at)
                places |= set(at)
        whole = f" {' '.join(words)} " in f" {' '.join(self.stems)} "
        return (found / total if total else 0.0), count, whole, places

    @cached_property
    def named(self) -> list[Occurrence]:
        """The occurrences of events whose title, place or people stand in the text, the best first."""
        scored: list[tuple[float, Target, tuple[float, int, bool]]] = []
        for target in self.index.mentioned(self.stems):
            share, count, whole, _ = self.matched(target.event.title)
            if count or whole:
                scored.append((share + 0.2 * count + whole, target, (share, count, whole)))
        scored.sort(key=lambda each: -each[0])
        now = self.chart.now.replace(tzinfo=self.zone)
        found = []
        for _, target, (share, count, whole) in scored[:_MOST_EVENTS]:
            some = expand([target], now - 8 * DAY, now + timedelta(days=400), self.zone)[:_MOST_OCCURRENCES]
            for occurrence in some:
                occurrence.title_share, occurrence.words, occurrence.is_phrase = share, count, whole
                self._note(occurrence)
                found.append(occurrence)
        once = {(each.target.calendar, each.event.uid, each.start): each for each in reversed(found)}
        return list(once.values())[::-1]

    def _note(self, occurrence: Occurrence) -> None:
        event = occurrence.event
        said = {each.value.lower() for each in self.chart.people}
        names = {each.address.partition("@")[0].lower() for each in event.attendees} | {
            each.name.lower() for each in event.attendees
        }
        addresses = {each.address.lower() for each in event.attendees}
        occurrence.has_person = bool(said & (names | addresses))
        if event.location:
            places = [word for word in _tokens(event.location) if word not in STOP_WORDS]
            occurrence.has_place = bool(places) and all(any(self._fits(s, word) for s in self.stems) for word in places)

    def between(self, low: datetime, high: datetime) -> list[Occurrence]:
        """All occurrences that take some of the time between two moments, by their start."""
        first, last = self._near
        some = self._coming if first <= low and high <= last else self._expanded(low, high)
        found = [each for each in some if each.end > low and each.start < high]
        for each in found:
            if id(each) not in self._noted:
                self._noted[id(each)] = each
                each.title_share, each.words, each.is_phrase, _ = self.matched(each.event.title)
                self._note(each)
        return found

    @cached_property
    def _noted(self) -> dict[int, Occurrence]:
        return {}

    @cached_property
    def _near(self) -> tuple[datetime, datetime]:
        """The time that most texts are about."""
        today = datetime.combine(self.chart.now, datetime.min.time())
        return today - 32 * DAY, today + 402 * DAY

    @cached_property
    def _coming(self) -> list[Occurrence]:
        """All occurrences of that time: expanded once, however many stretches of it and texts there are."""
        near = self._near
        if self.index.expanded[0] != near:
            self.index.expanded = near, [(each.target, each.start, each.end) for each in self._expanded(*near)]
        return [Occurrence(*each) for each in self.index.expanded[1]]

    def _expanded(self, low: datetime, high: datetime) -> list[Occurrence]:
        first, last = (each.replace(tzinfo=self.zone) for each in (low, high))
        found = expand(self.index.around(first, last), first, last, self.zone)
        return sorted(found, key=lambda each: (each.start, each.event.uid))

    # --- sets

    def on(self, occurrence: Occurrence, days: Days) -> bool:
        """Whether an occurrence takes some of these days."""
        last = (
            (occurrence.end - timedelta(minutes=1)).date()
            if occurrence.end > occurrence.start
            else occurrence.start.date()
        )
        return occurrence.start.date() <= days.last and last >= days.first

    def is_at(self, occurrence: Occurrence) -> bool:
        """Whether the text names its time of day."""
        minutes = occurrence.start.hour * 60 + occurrence.start.minute
        return any(minutes in (c.value.minutes, c.value.minutes + 720) for c in self.chart.clocks) or any(
            minutes in (s.value.begin.minutes, s.value.begin.minutes + 720) for s in self.chart.stretches
        )

    @cached_property
    def sets(self) -> list[TargetSet]:
        """All sets that may be meant."""
        found = [*self._singles(), *self._groups(), *self._pairs()]
        best = max((each.marks.get("share", 0.0) for each in found), default=0.0)
        for each in found:
            each.marks["share below best"] = best - each.marks.get("share", 0.0)
        return found

    def anchors(self) -> list[Piece[tuple[str, datetime, str]]]:
        """Where the text says after or before an event that stands: when that is."""
        lows = self.chart.text.lows
        found = []
        for i, low in enumerate(lows):
            if low not in ("after", "before", "following"):
                continue
            best: tuple[float, int, Occurrence] | None = None
            for each in self.named:
                if each.end <= self.chart.now or each.title_share < 0.4:
                    continue
                words = {at for at in self._words_of(each.event.title) if i < at <= i + 6}
                if not words or min(words) > i + 3:
                    continue
                fits = any(self.on(each, day.value) for day in self.chart.days)
                score = each.title_share + fits * 0.5
                if best is None or score > best[0] + 1e-9:
                    best = (score, max(words) + 1, each)
            if best is not None:
                _, end, event = best
                begin = i - (i > 0 and lows[i - 1] in ("straight", "right", "just", "directly", "immediately"))
                begin -= begin > 0 and lows[begin - 1] in ("to", "for")
                way = "before" if low == "before" else "after"
                found.append(
                    Piece(begin, end, (way, event.end if way == "after" else event.start, event.event.uid), way)
                )
        return found

    def _words_of(self, title: str) -> set[int]:
        return self.matched(title)[3]

    def _singles(self) -> list[TargetSet]:
        now = self.chart.now
        by_uid: dict[tuple[str, str], list[Occurrence]] = {}
        for each in self.named:
            by_uid.setdefault((each.target.calendar, each.event.uid), []).append(each)
        days = self.chart.days
        found: list[TargetSet] = []
        timed = [each for each in self._timed_ones() if (each.target.calendar, each.event.uid) not in by_uid]
        for each in timed:
            found.append(self._set([each], "this", "by time", words=self._words_of(each.event.title)))
        titles: dict[str, int] = {}
        for each_list in by_uid.values():
            titles[each_list[0].event.title] = titles.get(each_list[0].event.title, 0) + 1
        for occurrences in by_uid.values():
            occurrences.sort(key=lambda each: each.start)
            words = self._words_of(occurrences[0].event.title)
            is_series = occurrences[0].event.occurrence is not None or occurrences[0].event.is_series
            upcoming = [each for each in occurrences if each.end > now] or occurrences[-1:]
            if not is_series:
                kind = "single of several" if titles[occurrences[0].event.title] > 1 else "single"
                found.append(self._set(occurrences[:1], "this", kind, words=words))
                continue
            named_days = [
                each
                for each in upcoming[:_MOST_OCCURRENCES]
                if any(self.on(each, d.value) for d in days if d.value.last - d.value.first < 8 * DAY)
            ]
            some = [*upcoming[:2], *named_days[:6], *upcoming[-1:], *occurrences[:1]]
            for one in {each.start: each for each in some}.values():
                found.append(
                    self._set([one], "this", "occurrence next" if one is upcoming[0] else "occurrence", words=words)
                )
            for one in named_days[:3] or upcoming[:2]:
                following = self._set(
                    [x for x in upcoming if x.start >= one.start],
                    "following",
                    "following next" if one is upcoming[0] else "following",
                    words=words,
                )
                found.append(following)
            after = [x for x in upcoming if any(x.start.date() > d.value.last for d in days)]
            if after and named_days:
                found.append(self._set(after, "following", "following behind", words=words))
            found.append(self._set(upcoming, "all", "series", words=words))
            within = [x for x in upcoming if any(self.on(x, d.value) for d in days)]
            if 1 < len(within) < len(upcoming):
                found.append(self._set(within, "this", "occurrences within", words=words))
        return found

    def _timed_ones(self) -> list[Occurrence]:
        """Events that only their day and time of day tell: my 3 o'clock tomorrow."""
        found: dict[tuple[str, datetime], Occurrence] = {}
        today = Days(self.chart.now.date(), self.chart.now.date())
        for days in [
            *(each.value for each in self.chart.days if each.value.last - each.value.first < 3 * DAY),
            *([] if self.chart.days else [today]),
        ]:
            low = datetime.combine(days.first, datetime.min.time())
            some = self.between(low, datetime.combine(days.last, datetime.min.time()) + DAY)
            for each in some:
                if self.is_at(each) or len(some) <= 2 or each.has_person or each.has_place:
                    found[each.event.uid, each.start] = each
        return list(found.values())[:12]

    def _groups(self) -> list[TargetSet]:
        """Everything in a stretch of time, of some words, with somebody or in a place."""
        found: list[TargetSet] = []
        now = self.chart.now
        spans: list[tuple[datetime, datetime, Piece[Days] | None, str]] = []
        for day in self.chart.days[:3]:
            low, high = (
                datetime.combine(day.value.first, datetime.min.time()),
                datetime.combine(day.value.last, datetime.min.time()) + DAY,
            )
            spans.append((low, high, day, "day"))
            part = day.value.part or next((each.value for each in self.chart.parts), "")
            if part:
                from whenvoca.speech.chart.clocks import PARTS

                opens, closes = PARTS[part]
                spans.append((low + timedelta(hours=opens), low + timedelta(hours=closes), day, "part"))
            for clock in self.chart.clocks[:2]:
                hour = clock.value.hour + (12 if clock.value.is_open and clock.value.hour < 7 else 0)
                if clock.value.lead in ("after", "from") and hour < 24:
                    spans.append((low + timedelta(hours=hour, minutes=clock.value.minute), high, day, "after"))
                if clock.value.lead == "before" and hour < 24:
                    spans.append((low, low + timedelta(hours=hour, minutes=clock.value.minute), day, "before"))
        if not self.chart.days:
            low = datetime.combine(now.date(), datetime.min.time())
            spans.append((low, low + DAY, None, "today"))
            spans.append((now, now + timedelta(days=120), None, "from now"))
        for low, high, within, how in spans:
            members = [each for each in self.between(low, high) if each.end > now] or self.between(low, high)
            if not members:
                continue
            used = [within] if within is not None else []
            if how != "from now":
                found.append(self._set(members, "this", f"all in {how}", words=set(), used=used))
            for name, chosen in (
                ("words", [each for each in members if each.words]),
                ("person", [each for each in members if each.has_person]),
                ("place", [each for each in members if each.has_place]),
            ):
                if chosen and len(chosen) < len(members):
                    found.append(self._set(chosen, "this", f"all in {how} by {name}", words=set(), used=used))
                if name == "words" and chosen and len(chosen) < len(members) and how != "from now":
                    rest = [each for each in members if each not in chosen]
                    found.append(self._set(rest, "this", f"all in {how} but words", words=set(), used=used))
        return found

    def _pairs(self) -> list[TargetSet]:
        """Two or three events that are all named."""
        now = self.chart.now
        strong: dict[str, Occurrence] = {}
        for each in sorted(self.named, key=lambda x: x.start):
            is_said = each.title_share >= 0.45 or each.is_phrase
            if not is_said or each.end <= now:
                continue
            key = each.event.uid
            fits = any(self.on(each, d.value) for d in self.chart.days)
            if key not in strong or (fits and not any(self.on(strong[key], d.value) for d in self.chart.days)):
                strong[key] = each
        some = sorted(strong.values(), key=lambda each: -each.title_share)[:4]
        found = []
        for count in (2, 3):
            for chosen in combinations(some, count):
                words: set[int] = set()
                disjoint = 0
                for each in chosen:
                    mine = self._words_of(each.event.title)
                    disjoint += bool(mine - words)
                    words |= mine
                if disjoint == count:
                    found.append(self._set(list(chosen), "this", f"{count} named", words=words))
        return found

    def _is_from(self, day: Piece[Days]) -> bool:
        """Whether a day begins a stretch without an end: from the 3rd, the 3rd onwards."""
        lows = self.chart.text.lows
        before = lows[max(0, day.begin - 2) : day.begin + 1]
        behind = lows[day.end : day.end + 2]
        is_led = bool({"from", "since", "starting", "effect"} & set(before)) and not {"until", "to", "-"} & set(
            behind[:1]
        )
        return is_led or behind[:1] in (["on"], ["onwards"], ["onward"]) or behind == ["and", "after"]

    def _set(
        self,
        members: list[Occurrence],
        scope: str,
        kind: str,
        *,
        words: set[int],
        used: list[Piece[Days]] | None = None,
    ) -> TargetSet:
        marks: dict[str, float] = {f"set {kind}": 1.0, f"scope {scope}": 1.0}
        chart, lows = self.chart, set(self.chart.text.lows)
        first = members[0]
        if words or kind.startswith(("single", "occurrence", "following", "series", "2", "3")):
            share = min(each.title_share for each in members)
            marks["share"] = share
            marks["words matched"] = min(min(each.words for each in members), 4) / 2
            marks["whole title"] = float(all(each.is_phrase for each in members))
        marks["person"] = float(all(each.has_person for each in members))
        marks["place"] = float(all(each.has_place for each in members))
        days = list(chart.days)
        fitting = [each for each in days if all(self.on(member, each.value) for member in members)]
        narrow = [each for each in fitting if each.value.last - each.value.first < 2 * DAY]
        if days:
            marks["a day fits"] = float(bool(narrow))
            marks["a period fits"] = float(bool(fitting) and not narrow)
            marks["first day fits"] = float(bool(days) and days[0] in fitting)
            marks["no day fits"] = float(not fitting)
        else:
            marks["no day said"] = 1.0
        led = [each for each in days if self._is_from(each) and self.on(first, each.value)]
        marks[f"{scope} from its day"] = float(bool(led))
        marks["time fits"] = float(all(self.is_at(each) for each in members))
        marks["past"] = float(first.end <= chart.now)
        marks["ahead"] = min((first.start - chart.now).days, 60) / 30
        if kind.startswith("all in"):
            marks["everything word"] = float(bool(lows & EVERYTHING))
            marks["size"] = min(len(members), 6) / 3
            marks["one only"] = float(len(members) == 1)
            for each in ("by words", "by person", "by place", "but words"):
                if kind.endswith(each):
                    marks[f"filter {each}"] = 1.0
        said = " ".join(chart.text.lows)
        goes_on = any(words in said for words in _AND_LATER)
        series_words = {
            "all": not goes_on
            and bool(lows & {"all", "every", "each", "whole", "series", "always", "altogether", "any"}),
            "following": bool(lows & {"onwards", "onward", "following", "future", "rest", "after", "anymore"})
            or "from" in lows
            or goes_on,
        }
        for name, is_there in series_words.items():
            marks[f"{scope} with {name} word"] = float(is_there)
            marks[f"{scope} without {name} word"] = float(not is_there)
        marks[f"{scope} with now on"] = float("now" in lows and "on" in lows)
        marks[f"{scope} with only"] = float(bool(lows & {"only", "just", "once", "this"}))
        marks[f"{scope} with repetition"] = float(bool(chart.repetitions))
        plural = any(
            low.endswith("s") and stem(low) != low and stem(low) in set(_tokens(first.event.title))
            for low in chart.text.lows
        )
        marks[f"{scope} with plural"] = float(plural)
        marks[f"{kind.split()[0]} several with both"] = float(
            len(members) > 1 and bool(lows & {"both", "and", "+", "&", ";", ","})
        )
        return TargetSet(members, scope, marks, used if used is not None else narrow[:1] or fitting[:1], words)
