"""Faults of a workflow file: where, what, how to mend it, with the line shown and the spot marked."""

from __future__ import annotations

from collections.abc import Iterable

from msgspec import Struct


class Spot(Struct, frozen=True):
    """A stretch of one line of a file: line and column count from 1."""

    line: int
    column: int
    length: int = 1


class Fault(Struct, frozen=True):
    """One thing wrong. ``source`` is the line as it stands in the file; ``spot`` is None for a whole file.

    ``in_data`` tells that a sheet's cells are in doubt, not the workflow: it can run, and those rows wait.
    ``in_place``: a place cannot be read now, so the workflow waits, and others run.
    """

    file: str
    spot: Spot | None
    message: str
    fix: str = ""
    source: str = ""
    in_data: bool = False
    in_place: bool = False

    @property
    def where(self) -> str:
        """File, line and column as an editor jumps to them."""
        return f"{self.file}:{self.spot.line}:{self.spot.column}" if self.spot else self.file

    def show(self) -> str:
        """The fault for a person: place and message, the line, the mark under it, the mend."""
        lines = [f"{self.where}: {self.message}"]
        if self.spot and self.source:
            lead = "".join("\t" if sign == "\t" else " " for sign in self.source[: self.spot.column - 1])
            lines += [f"    {self.source}", f"    {lead}{'^' * max(1, self.spot.length)}"]
        if self.fix:
            lines.append(f"  {self.fix}")
        return "\n".join(lines)


class OldWord(Struct, frozen=True):
    """A word that stands in the file and has a new name (see ``old_words``)."""

    spot: Spot
    old: str
    new: str


class FaultList:
    """Collects the faults of one file, so that all are reported at once, and what is worth saying besides."""

    def __init__(self, file: str, text: str) -> None:
        self.file = file
        self._lines = text.split("\n")
        self._faults: dict[tuple[int, int, str], Fault] = {}
        self._old_words: dict[Spot, OldWord] = {}
        self._notes: dict[Spot, str] = {}

    def add(
        self, spot: Spot | None, message: str, fix: str = "", *, in_data: bool = False, in_place: bool = False
    ) -> None:
        """Records a fault. Of several at one spot the first counts: the others mostly follow from it."""
        source = self._lines[spot.line - 1].rstrip("\r") if spot and spot.line <= len(self._lines) else ""
        key = (spot.line, spot.column, "") if spot else (0, 0, message)
        self._faults.setdefault(key, Fault(self.file, spot, message, fix, source, in_data, in_place))

    def add_old(self, spot: Spot, old: str, new: str) -> None:
        """Records a word that has a new name; it is no fault."""
        self._old_words[spot] = OldWord(spot, old, new)

    def add_note(self, spot: Spot, said: str) -> None:
        """Records what is worth a look and no fault."""
        self._notes[spot] = said

    @property
    def notes(self) -> list[tuple[int, str]]:
        """What is worth a look, each with its line, in the order of the file."""
        return [
            (spot.line, self._notes[spot]) for spot in sorted(self._notes, key=lambda each: (each.line, each.column))
        ]

    def text_at(self, spot: Spot) -> str:
        """What stands at a spot of the file."""
        return self._lines[spot.line - 1][spot.column - 1 : spot.column - 1 + spot.length]

    @property
    def old_words(self) -> list[OldWord]:
        """The words that have a new name, in the order of the file."""
        return sorted(self._old_words.values(), key=lambda each: (each.spot.line, each.spot.column))

    def __bool__(self) -> bool:
        return bool(self._faults)

    def sorted(self) -> list[Fault]:
        """All of them in the order of the file."""
        return [self._faults[key] for key in sorted(self._faults)]


def with_article(said: str) -> str:
    """ "a date", "an event", "yes or no"."""
    if said == "yes or no":
        return said
    return f"an {said}" if said[:1] in "aeiou" else f"a {said}"


def nearest(word: str, known: Iterable[str]) -> str:
    """ "did you mean …?" with the nearest known words, or what is known if there are few, or nothing."""
    names = sorted(set(known))
    by_lower = {name.lower(): name for name in names}
    from difflib import get_close_matches

    close = [by_lower[near] for near in get_close_matches(word.lower(), by_lower, n=2, cutoff=0.6)]
    if not close:
        close = [name for name in names if len(word) > 2 and name.lower().startswith(word.lower())][:2]
    if close:
        return f"did you mean {' or '.join(close)}?"
    if names and len(names) <= 12:
        return f"known here: {', '.join(names)}"
    return ""
