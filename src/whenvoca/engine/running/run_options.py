"""What a command wants of a run, and who answers where a workflow asks or a subject has to be chosen."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from datetime import timedelta
from typing import Any

from msgspec import Struct

from whenvoca.engine.acting.questions import NobodyAnswers, Question
from whenvoca.engine.running.brake import Held
from whenvoca.engine.running.patience import Patience
from whenvoca.errors import RequestFault

_MOST_LISTED = 12


class Candidate(Struct, frozen=True):
    """A subject that may be chosen: its key, what people know it by, and of a row its number in the sheet."""

    key: str
    label: str
    said: str
    number: int = 0

    @property
    def listed(self) -> str:
        """The subject with what it is chosen by on the command line."""
        return f"row {self.number} ({self.said})" if self.number else f"{self.said} ({self.key})"


def nobody_answers(question: Question) -> Any:
    """Where nobody can be asked: the default holds. Raises RequestFault where there is none."""
    if question.default is not None:
        return question.default
    raise NobodyAnswers(f'"{question.name}" is not given: {question.text}', fix=f"--give {question.name}=…")


def nobody_picks(what: str, candidates: Sequence[Candidate]) -> str:
    """Where nobody can be asked which one. Raises RequestFault, with a list of what there is."""
    listed = "; ".join(each.listed for each in candidates[:_MOST_LISTED])
    more = f" and {len(candidates) - _MOST_LISTED} more" if len(candidates) > _MOST_LISTED else ""
    option = "--row" if what == "row" else "--event"
    raise RequestFault(f"which {what} is meant? There are: {listed}{more}", fix=f"choose by {option}")


class SubjectChoice(Struct, frozen=True):
    """The only subjects that a command is about: rows by their number in the sheet, events by UID, or any by key."""

    rows: frozenset[int] = frozenset()
    keys: frozenset[str] = frozenset()


class RunOptions(Struct, frozen=True):
    """What a command wants of a run: which subjects, and whether what the brake holds may go. ``kept`` is of how many
    runs that went well each is told by itself; all are counted. ``is_rehearsal``: it runs where nothing is written."""

    choice: SubjectChoice | None = None
    only: frozenset[str] | None = None  # keys of subjects: what else waits goes on waiting
    allow: Callable[[Held], bool] = lambda held: False
    brake_span: timedelta = timedelta()  # over how long the brake counts, besides the batch at hand
    by_hand: frozenset[str] = frozenset()  # workflows that are started now, once: by the clock, or asked
    answer: Callable[[Question], Any] = nobody_answers
    pick: Callable[[str, Sequence[Candidate]], str] = nobody_picks
    kept: int = 200
    is_rehearsal: bool = False
    look: frozenset[str] | None = None  # lower-case names of the only places that are looked at; None: all
    stop: Callable[[], bool] = lambda: False  # whether to end when the step at hand is done
    patience: Patience | None = None  # of a process that goes on: when runs that wait for a place are tried again
    progress: Callable[[int, int], None] = lambda done, total: None
