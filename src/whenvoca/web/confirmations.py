"""Confirmations: the email that a form sends to whoever filled it in, once the workflows are through with an entry."""

from __future__ import annotations

import contextlib
import json
import threading
import uuid
from collections.abc import Callable, Iterator, Mapping
from pathlib import Path
from typing import Any

from whenvoca.calendars.writer import write_calendar
from whenvoca.engine.clock import Clock
from whenvoca.engine.effects import Effect
from whenvoca.engine.ledger.protocol import Ledger
from whenvoca.engine.ledger.sqlite import SqliteLedger
from whenvoca.errors import PlaceTrouble, RowFault, WhenvocaError
from whenvoca.places.form.place import Form
from whenvoca.unforeseen import tell_unforeseen
from whenvoca.web.booked import as_event, in_words
from whenvoca.web.house import House
from whenvoca.web.outcomes import Story, story_of

_PAUSES = (5.0, 30.0, 120.0, 600.0)  # seconds before it is tried again, while the outbox does not take it
_LOOKED_BACK = 500  # arrivals


class Confirmations:
    """Sends them, in a thread of its own: an outbox can be slow, and nobody is to wait for it. ``note`` hears what was
    sent, ``trouble`` what went wrong."""

    def __init__(
        self, house: House, ledger: Path, clock: Clock, note: Callable[[str], None], trouble: Callable[[str], None]
    ) -> None:
        self._house, self._path, self._clock, self._note, self._trouble = house, ledger, clock, note, trouble
        self._forms: Mapping[str, tuple[Form, bool]] = {}
        self._root = ""
        self._open_places: Callable[[], Any] = dict
        self._wakes, self._is_over = threading.Event(), threading.Event()
        self._thread = threading.Thread(target=self._run, name="confirmations", daemon=True)
        self._failures = 0

    def serve(self, root: str, forms: Mapping[str, tuple[Form, bool]], open_places: Callable[[], Any]) -> None:
        """From now on these forms, each with whether its senders may change what they sent; ``root`` is the
        workspace's."""
        self._root, self._open_places = root, open_places
        self._forms = {name: each for name, each in forms.items() if each[0].confirm is not None}
        with contextlib.closing(SqliteLedger(self._path)) as ledger:
            for name, (form, _) in forms.items():
                key = self._key(name)
                if form.confirm is None:
                    ledger.set_meta(key, "")
                elif not ledger.meta(key):  # what came in before is not confirmed
                    ledger.set_meta(key, str(ledger.last_arrival(form.name)))
        self.wake()

    def start(self) -> None:
        """Begins."""
        self._thread.start()

    def stop(self) -> None:
        """Ends; what is left is sent the next time."""
        self._is_over.set()
        self._wakes.set()
        self._thread.join(10)

    def wake(self) -> None:
        """An entry may have been worked on."""
        self._wakes.set()

    def _key(self, name: str) -> str:
        return f"confirmed {self._house.first_name(name)}"

    # --- in the thread

    def _run(self) -> None:
        with contextlib.closing(SqliteLedger(self._path)) as ledger:
            while not self._is_over.is_set():
                if self._failures:
                    self._is_over.wait(_PAUSES[min(self._failures, len(_PAUSES)) - 1])
                else:
                    self._wakes.wait()
                self._wakes.clear()
                try:
                    for form, may_change in list(self._forms.values()):
                        self._look(ledger, form, may_change)
                    self._failures = 0
                except WhenvocaError as error:
                    if not self._failures:
                        self._trouble(f"web: a confirmation waits: {error.where or 'outbox'}: {error.message}")
                    self._failures += 1
                except Exception as error:  # the others go on
                    self._trouble(f"web: {tell_unforeseen(error)}")
                    self._failures += 1

    def _look(self, ledger: Ledger, form: Form, may_change: bool) -> None:
        """Sends what is due of a form. Raises WhenvocaError where the outbox does not take it now."""
        key = self._key(form.name)
        known, last = int(ledger.meta(key) or 0), ledger.last_arrival(form.name)
        is_settled_so_far = True
        for arrival, subject, story in self._due(ledger, form, max(known, last - _LOOKED_BACK)):
            once = f"confirmed {subject} {arrival}"
            if story is not None and story.state == "waiting":
                is_settled_so_far = False
                continue
            wanted = story is not None and story.state == "done" and not story.is_withdrawn
            if story is not None and wanted and ledger.taken_before(form.name, once) is None:
                self._send(form, subject, arrival, story, may_change=may_change)
                ledger.remember_once(form.name, once, subject, self._clock.now().isoformat())
            if is_settled_so_far:
                ledger.set_meta(key, str(arrival))

    def _due(self, ledger: Ledger, form: Form, after: int) -> Iterator[tuple[int, str, Story | None]]:
        """The newest arrival of each entry, with what became of it; None where it changed once more since then."""
        found = ledger.arrivals(form.name, after)
        newest = {each.subject: each.sequence for each in found}
        for each in found:
            is_newest = newest[each.subject] == each.sequence
            yield each.sequence, each.subject, story_of(ledger, form.name, each.subject) if is_newest else None

    def _send(self, form: Form, subject: str, arrival: int, story: Story, *, may_change: bool) -> None:
        assert form.confirm is not None
        field, outbox = form.confirm
        address = str(story.values.get(field) or "")
        if not address:
            return
        lines = [form.words.thanks, ""]
        for booked in story.booked:
            told = in_words(booked, form.zone)
            lines += [f"{word.capitalize()}: {told[key]}" for word, key in _WORDS if told[key]]
        lines += ["", f"This is request number {story.number}."]
        if may_change and form.may_change(story.values, self._clock.now()):
            link = f"{self._house.settings.shown}{self._house.path_of_entry(form.path, form.name, subject)}"
            lines += ["You can change or withdraw it here; the address is yours alone:", link]
        kept = [write_calendar(as_event(each, address), self._clock.now()).decode() for each in story.booked]
        identity = uuid.uuid5(uuid.NAMESPACE_OID, "\0".join([self._root, self._key(form.name), subject, str(arrival)]))
        effect = Effect(
            verb="send email",
            place=outbox,
            target=str(identity),
            after={"to": [address], "subject": form.words.title, "text": "\n".join(lines)},
            kept=json.dumps(kept, ensure_ascii=False) if kept else "",
        )
        with contextlib.closing(self._open_places()) as places:
            (result,) = places.open_named(outbox).apply([effect], self._clock.now())
        if isinstance(result, RowFault) or (isinstance(result, PlaceTrouble) and result.is_refusal):
            self._trouble(f"web: {form.name}, number {story.number}: no confirmation was sent: {result.message}")
        elif isinstance(result, WhenvocaError):
            raise result
        else:
            self._note(f"web: {form.name}, number {story.number}: the confirmation is sent")


_WORDS = (("day", "day"), ("time", "time"), ("place", "location"))
