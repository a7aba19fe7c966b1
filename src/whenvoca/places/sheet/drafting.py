"""A first workflow for a sheet that nobody has described: which column is the title, the day, the times, the people.

Columns are matched by their headings and by what they hold. What is a guess is marked "unsure" in the text.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Sequence

from msgspec import Struct, field

from whenvoca.language.definitions import column_word, written_column
from whenvoca.language.expressions import WORDS
from whenvoca.language.names import fold_name
from whenvoca.places.sheet.rowkeys import find_booking_column
from whenvoca.places.sheet.table import Table
from whenvoca.values.dates import DAY_FIRST, MONTH_FIRST
from whenvoca.values.kinds import Kind, Raw, show_raw

OUTCOME_COLUMNS = ("Answer", "Booking")


def _words(text: str) -> tuple[str, ...]:
    return tuple(text.split(", "))


_ANSWERS = _words("answer, status, state, outcome, result, reply, decision")
# Words of headings for each field, the more telling first.
_TITLES = _words(
    "title, event, subject, summary, what, topic, activity, task, duty, target, talk, course, work, school, name, "
    "description"
)
_DAYS = _words("date, day, night, evening, visit date, event date, start date, when, first day, closed from, out")
_LAST_DAYS = _words("last day, end date, until, closed to, to date, back, through, last")
_BEGINS = _words("from, begin, begins, start, start time, time, at, starts, hour, arrival, arrive, arriving")
_ENDS = _words("to, end, finish, until, ends, end time, till, stop, departure, leave, leaving")
_SENT = _words(
    "timestamp, submitted, submission, created, received, recorded, sent, entered, registered, completed, completion"
)
_LENGTHS = _words("length, duration, hours, minutes, takes")
_PLACES = _words("location, venue, where, room, hall, place, dome, site, address")
_DETAILS = _words("notes, note, comment, comments, remarks, details, description, info")
_PEOPLE = _words("attendees, observers, people, participants, who, person, crew, guests, contact, e mail, email, mail")
_TOTALS = _words("total, totals, sum, subtotal, grand total")
_KEYS = _words("no, number, id, key, code, reference, ref, nr")


class Draft(Struct):
    """What was worked out: the place's settings, the workflow's text, and what is unsure about them."""

    settings: dict[str, object] = field(default_factory=dict)
    workflow: str = ""
    unsure: list[str] = field(default_factory=list)
    date_columns: list[str] = field(default_factory=list)
    totals_row: int = 0  # the number of the row that was taken for totals, 0 if none was
    missing_outcomes: list[str] = field(default_factory=list)  # columns that the workflow would write into


def draft_workflow(
    table: Table, place: str, calendar: str, *, day_order: str = "", header_given: bool = False
) -> Draft:
    """A workflow that makes an event of each row of the table. ``day_order`` settles dates that fit two readings."""
    return _Drafting(table, place, calendar, day_order).draft()


class _Drafting:
    def __init__(self, table: Table, place: str, calendar: str, day_order: str) -> None:
        self._table = table
        self._place, self._calendar = place, calendar
        self._order = day_order or "day first"
        self._is_told = bool(day_order)
        self._draft = Draft()
        self._taken: set[str] = set()
        self._lets: list[str] = []
        self._kinds = {heading.name: table.readings[heading.name].kind for heading in table.headings}
        self._has_totals = len(table.rows) > 1 and _is_total(table.rows[-1][1])
        rows = table.rows[:-1] if self._has_totals else table.rows
        self._count = len(rows)
        self._cells = {
            heading.name: [row[heading.index] if heading.index < len(row) else None for _, row in rows]
            for heading in table.headings
        }

    def draft(self) -> Draft:
        answer = self._named(_ANSWERS, lambda name: self._kinds[name] is Kind.TEXT or not self._filled(name))
        booking = find_booking_column([heading.name for heading in self._table.headings])
        self._take(answer, booking)
        self._settings()
        fields = self._times()
        fields = [("title", self._title(), ""), *fields, *self._others()]
        self._draft.workflow = self._text(fields, answer, booking)
        self._draft.date_columns = [name for name, kind in self._kinds.items() if kind is Kind.DATE]
        outcomes = {"Answer": answer, "Booking": booking}
        self._draft.missing_outcomes = [name for name in OUTCOME_COLUMNS if not outcomes[name]]
        return self._draft

    # --- the place

    def _settings(self) -> None:
        settings = self._draft.settings
        key = self._key()
        if key:
            settings["key"] = key
        else:
            self._unsure('no column tells the rows apart by itself; name one: key = "…" at the place')
        open_columns = [h.name for h in self._table.headings if self._table.readings[h.name].status == "ambiguous"]
        if open_columns:
            like = self._decided()
            settings["dates"] = self._order
            if not self._is_told:
                said = f'"{open_columns[0]}" can be read day first and month first; {self._order} was taken'
                self._unsure(f'{said}, as "{like}" is read' if like else said)
        if self._has_totals:
            settings["totals"] = "last row"
            number, cells = self._table.rows[-1]
            self._draft.totals_row = number + 1
            said = show_raw(next(cell for cell in cells if cell is not None))
            self._unsure(f'row {self._draft.totals_row} ("{said}") was taken for a line of totals and makes no event')

    def _decided(self) -> str:
        """The column whose dates fit one reading alone, which then holds for the others too; empty if there is none."""
        formats = {h.name: self._table.readings[h.name].format for h in self._table.headings}
        settled = {name: each for name, each in formats.items() if each in (DAY_FIRST, MONTH_FIRST)}
        if self._is_told or len(set(settled.values())) != 1:
            return ""
        self._order = next(iter(settled.values()))
        return next(iter(settled))

    def _key(self) -> str:
        found = [name for name in self._by_words(_KEYS) if self._is_unique(name)]
        if not found:
            first = [h.name for h in self._table.headings if h.name not in self._taken][:2]
            shaped = re.compile(r"[A-Za-z]{0,4}[-_ ]?\d+")
            found = [
                n for n in first if self._is_unique(n) and all(shaped.fullmatch(show_raw(c)) for c in self._cells[n])
            ]
        self._take(*found[:1])
        return found[0] if found else ""

    def _is_unique(self, name: str) -> bool:
        cells = self._cells[name]
        return bool(cells) and None not in cells and len(set(map(str, cells))) == len(cells) == self._count

    # --- times

    def _times(self) -> list[tuple[str, str, str]]:
        moments = self._of_kind(Kind.MOMENT)
        sent = [name for name in self._by_words(_SENT) if name in moments]
        if len(sent) == len(moments) and not self._of_kind(Kind.DATE):
            sent = []  # when it was sent is all that there is
        if moments := [name for name in moments if name not in sent]:
            return self._of_moments(moments)
        day = self._choose(_DAYS, Kind.DATE, "the day")
        if not day:
            self._unsure("no column holds dates: the start has to be written by hand")
            return [("start", "today at 09:00", "unsure: no column holds dates")]
        self._take(day)
        begin = self._choose(_BEGINS, Kind.TIME, "the begin", quiet=True)
        self._take(begin)
        end = self._choose(_ENDS, Kind.TIME, "the end", quiet=True)
        self._take(end)
        if not begin:
            return self._whole_days(day)
        fields = [("start", f"{self._word(day)} at {self._word(begin)}", "")]
        length = self._length()
        if end:
            last = self._named(_LAST_DAYS, lambda name: self._kinds[name] is Kind.DATE)
            self._take(last)
            is_open = any(
                cell is None and start is not None
                for cell, start in zip(self._cells[end], self._cells[begin], strict=True)
            )
            if is_open:
                self._unsure(f'some rows have no "{end}"; one hour was taken for them')
            value = f"{self._word(last or day)} at {self._word(end)}"
            fields.append(("end", f"{value} or 1 hour" if is_open else value, ""))
        elif length:
            fields.append(("length", length, ""))
        else:
            self._unsure("no column tells the end; one hour was taken")
            fields.append(("length", "1 hour", "unsure: no column tells the end"))
        if any(cell is None for cell in self._cells[begin]):
            self._lets.append(f"let whole = if {self._word(begin)} is empty then {self._word(day)}")
            fields.append(("first-day", "whole", "rows without times take the whole day"))
        return fields

    def _of_moments(self, moments: list[str]) -> list[tuple[str, str, str]]:
        begin = next((name for name in self._by_words((*_BEGINS, *_DAYS)) if name in moments), moments[0])
        self._take(begin)
        end = next((name for name in self._by_words(_ENDS) if name in moments), "")
        if not end and len(moments) == 2:
            end = next(name for name in moments if name != begin)
        self._take(end)
        fields = [("start", self._word(begin), "")]
        if end:
            return [*fields, ("end", self._word(end), "")]
        length = self._length()
        if not length:
            self._unsure("no column tells the end; one hour was taken")
        return [*fields, ("length", length or "1 hour", "" if length else "unsure: no column tells the end")]

    def _whole_days(self, day: str) -> list[tuple[str, str, str]]:
        last = self._named(_LAST_DAYS, lambda name: self._kinds[name] is Kind.DATE)
        others = [name for name in self._of_kind(Kind.DATE) if name not in self._taken]
        if not last and others:
            last = others[0]
            self._unsure(f'"{last}" was taken for the last day')
        self._take(last)
        fields = [("first-day", self._word(day), "")]
        return [*fields, ("last-day", self._word(last), "")] if last else fields

    def _length(self) -> str:
        name = self._named(_LENGTHS, lambda name: self._kinds[name] in (Kind.NUMBER, Kind.DURATION))
        if not name:
            return ""
        self._take(name)
        if self._kinds[name] is Kind.DURATION:
            return self._word(name)
        numbers = [float(str(cell)) for cell in self._cells[name] if cell is not None]
        unit = "minutes" if "min" in name.casefold() or (numbers and max(numbers) > 24) else "hours"
        if "min" not in name.casefold() and "hour" not in name.casefold():
            self._unsure(f'"{name}" was taken for {unit}')
        return f"{self._word(name)} {unit}"

    # --- the other fields

    def _title(self) -> str:
        texts = [name for name in self._of_kind(Kind.TEXT) if name not in self._taken and self._filled(name)]
        named = [name for name in self._by_words(_TITLES) if name in texts]
        if not named and not texts:
            self._unsure("no column of texts could be the title")
            return f'"{self._place}"'
        name = named[0] if named else max(texts, key=lambda each: len({str(cell) for cell in self._cells[each]}))
        if not named:
            self._unsure(f'"{name}" was taken for the title, the most varied text')
        self._take(name)
        second = [each for each in named[1:] if each not in self._taken]
        if second and len({str(cell) for cell in self._cells[name]}) < self._count:
            self._take(second[0])
            return f'"{{{self._word(name)}}}: {{{self._word(second[0])}}}"'
        return self._word(name)

    def _others(self) -> list[tuple[str, str, str]]:
        found: list[tuple[str, str, str]] = []
        people = [name for name in self._of_kind(Kind.ADDRESSES) if name not in self._taken]
        if people:
            best = next((name for name in self._by_words(_PEOPLE) if name in people), people[0])
            self._take(best)
            found.append(("attendees", self._word(best), ""))
            for other in people:
                if other != best:
                    self._unsure(f'"{other}" holds addresses too')
        for word, names in (("location", _PLACES), ("details", _DETAILS)):
            name = self._named(names, lambda each: self._kinds[each] is Kind.TEXT and bool(self._filled(each)))
            if name:
                self._take(name)
                found.append((word, self._word(name), ""))
        return found

    # --- the text

    def _text(self, fields: Sequence[tuple[str, str, str]], answer: str, booking: str) -> str:
        lines = [
            f"# Drafted from {self._table.file}: read it, then check it with whenvoca check, then whenvoca rehearse.",
            *(f"# unsure: {each}" for each in self._draft.unsure),
            f'title "Rows of {self._place} become events"',
            "",
            f"when {self._place} gains a row",
            *([f"  where  {self._word(answer)} is empty"] if answer else []),
            "",
            *([*self._lets, ""] if self._lets else []),
            f"create event in {self._calendar} as booking",
        ]
        width = max(len(name) for name, _, _ in fields)
        for name, value, comment in fields:
            line = f"  {name.ljust(width)}  {value}"
            lines.append(f"{line.ljust(45)} # {comment}" if comment else line)
        if answer or booking:
            written = [*([(booking, "booking.uid")] if booking else []), *([(answer, '"granted"')] if answer else [])]
            width = max(len(self._word(name)) for name, _ in written)
            lines += ["", "change row", *(f"  {self._word(name).ljust(width)}  {value}" for name, value in written)]
        if answer:
            lines += ["", "if anything fails", "  change row", f'    {self._word(answer)}  "not granted: {{reason}}"']
        return "\n".join(lines) + "\n"

    # --- columns

    def _word(self, name: str) -> str:
        """How the workflow writes the column: in full where its word is one of the language."""
        written = written_column(name)
        return f"row.{written}" if fold_name(written) in WORDS or fold_name(written) in ("column",) else written

    def _take(self, *names: str) -> None:
        self._taken |= {name for name in names if name}

    def _unsure(self, text: str) -> None:
        self._draft.unsure.append(text)

    def _filled(self, name: str) -> int:
        return sum(1 for cell in self._cells[name] if cell is not None)

    def _of_kind(self, kind: Kind) -> list[str]:
        return [name for name, each in self._kinds.items() if each is kind and self._filled(name)]

    def _by_words(self, words: Sequence[str]) -> list[str]:
        """The free columns whose headings say one of these words, the best first."""
        return [name for _, name in sorted(self._scores(words)) if name not in self._taken]

    def _scores(self, words: Sequence[str]) -> Iterable[tuple[tuple[int, int], str]]:
        for position, heading in enumerate(self._table.headings):
            said = re.sub(r"[\W_]+", " ", heading.name).strip().casefold()
            pieces = said.split()
            for rank, word in enumerate(words):
                if said == word:
                    yield (rank, position), heading.name
                    break
                if word in pieces or (" " in word and word in said):
                    yield (rank + 100, position), heading.name
                    break

    def _named(self, words: Sequence[str], fits: Callable[[str], bool]) -> str:
        return next((name for name in self._by_words(words) if fits(name)), "")

    def _choose(self, words: Sequence[str], kind: Kind, what: str, *, quiet: bool = False) -> str:
        """The column of that kind with the most telling heading; several that tell alike are said."""
        of_kind = [name for name in self._of_kind(kind) if name not in self._taken]
        named = [name for name in self._by_words(words) if name in of_kind]
        if not of_kind:
            return ""
        if named:
            return named[0]
        if (quiet and kind is Kind.TIME and what == "the end" and len(of_kind) > 1) or not quiet or len(of_kind) > 1:
            self._unsure(f'"{of_kind[0]}" was taken for {what}')
        return of_kind[0]


def _is_total(row: Sequence[Raw]) -> bool:
    """Whether a row says of itself that it holds totals."""
    first = next((cell for cell in row if cell is not None), None)
    return isinstance(first, str) and first.strip().rstrip(":").casefold() in _TOTALS


def place_word(stem: str) -> str:
    """The word for a place, from a file's name."""
    return column_word(stem).casefold().strip("-") or "sheet"
