"""The stage: the one seam through which steps read and write.

On the places themselves it is the live one; on rehearsed places, with a copy of the ledger, nothing is written. Effects
on sheets stay pending until their file is saved; the other places write a group at once.
"""

from __future__ import annotations

from collections import ChainMap
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from datetime import datetime, timedelta
from functools import lru_cache, partial
from typing import Any

from msgspec import Struct
from msgspec.structs import replace

from whenvoca.calendars.event import Event, changed_fields, from_content
from whenvoca.calendars.free_busy import FreeBusy, read_free_busy
from whenvoca.calendars.recurrence import expand_events, occurrence_at
from whenvoca.calendars.state import event_key, original_start, split_key, to_state
from whenvoca.engine.acting.effect_kind import EffectKinds
from whenvoca.engine.all_places import Places
from whenvoca.engine.alterations import find_alterations
from whenvoca.engine.clock import Clock
from whenvoca.engine.ledger.history import choose_runs
from whenvoca.engine.ledger.protocol import Ledger
from whenvoca.engine.ledger.records import Claim, JournalEntry, MadeThing, RunRecord
from whenvoca.engine.lineage import Lineage
from whenvoca.engine.message_protocols import Presence
from whenvoca.engine.people import Person
from whenvoca.engine.place_protocols import Calendar, RowState, Sheet, StoredEvent
from whenvoca.engine.regular_files import read_regular
from whenvoca.engine.things.email import BRIEF, NAME, AttachmentThing, EmailThing
from whenvoca.engine.things.event import EventThing
from whenvoca.engine.things.task import to_thing
from whenvoca.engine.travels import Travels
from whenvoca.engine.workspace.settings import Workspace
from whenvoca.errors import RowFault
from whenvoca.language.evaluation import Thing
from whenvoca.reports.hours import Alteration

_SERIES_LOOKED_AT = timedelta(days=366)  # how far the occurrences of a new series are held against others
_MOST_CANCELLED = 50  # how many earlier things of a lineage are looked for without a ledger


class ExistingThing(Struct, frozen=True):
    """What stands of a lineage: the event, its number, whether it is as we last wrote it, and a mirror's base."""

    stored: StoredEvent
    number: int
    is_untouched: bool
    base: RowState | None = None


class Missing(Struct, frozen=True):
    """Nothing exists of a lineage: the number of its next thing, and whether somebody else deleted the last one."""

    number: int
    by_another: bool = False


class Stage:
    """Where steps act: what they may ask of the workspace, its places and its record."""

    def __init__(self, workspace: Workspace, places: Places, ledger: Ledger, clock: Clock, kinds: EffectKinds) -> None:
        self.workspace, self.clock, self.kinds = workspace, clock, kinds
        self._places, self._ledger = places, ledger
        together: Any = ChainMap(places.calendars, places.tasks)  # type: ignore[arg-type]  # read only
        self._dated: Mapping[str, Calendar] = together
        self._planned: dict[str, list[Event]] = {}  # by calendar: events that are about to be made
        self._said: dict[tuple[str, str], str] = {}
        self._answered: dict[tuple[str, str, str], int] = {}  # by outbox, address and day: how often
        self._has_made: dict[str, bool] = {}  # by calendar, before this group of runs
        self._calendar = lru_cache(maxsize=None)(lambda name: self._dated[name.lower()])
        self._sheet = lru_cache(maxsize=None)(lambda name: places.sheets[name.lower()])
        self._travels = lru_cache(maxsize=None)(lambda name: Travels(name, partial(self.calendar, name), ledger))

    def calendar(self, name: str) -> Calendar:
        """The calendar of that name. Raises KeyError where there is none."""
        return self._calendar(name)

    def sheet(self, name: str) -> Sheet:
        """The sheet of that name."""
        return self._sheet(name)

    def travels(self, calendar: str) -> Travels:
        """The travel around the events of a calendar."""
        return self._travels(calendar)

    def alterations(
        self, calendars: Sequence[str], low: datetime, high: datetime, fits: Callable[[Thing], bool]
    ) -> list[Alteration] | None:
        """What the ledger saw to be moved away from a stretch of time, or called off in it; None if it never looked."""
        zones = {name: self.calendar(name).zone for name in calendars}
        return find_alterations(self._ledger, zones, low, high, lambda name, event: fits(self.to_thing(name, event)))

    def calendar_names(self) -> list[str]:
        """The names of all calendars that can be used."""
        return [self.calendar(name).name for name in self._places.calendars]

    def was_lost_since_made(self, place: str, subject: str, lineage: Lineage) -> bool:
        """Whether the subject was gone for a while since the thing of that lineage was made of it."""
        return self._ledger.was_lost_since_made(place, subject, lineage.to_mark())

    def find_event(self, place: str, key: str) -> StoredEvent | None:
        """The event of that key as it stands now: a whole one, or one occurrence of a series.

        Raises PlaceTrouble where the calendar cannot be reached.
        """
        uid, original = split_key(key)[0], original_start(key)
        stored = self.calendar(place).find_event(uid)
        if stored is None or original is None:
            return stored
        found = next((event for event in stored.others if event_key(uid, event.occurrence) == key), None)
        if found is None:
            found = occurrence_at(stored.event, original, self.calendar(place).zone)
        return None if found is None else replace(stored, event=found)

    def to_thing(self, place: str, event: Event, address: str = "") -> EventThing:
        """The event as workflows see it."""
        calendar = self.calendar(place)
        address = address or calendar.address_of(event.uid)
        return to_thing(event, calendar.name, address, calendar.zone, self.travels(calendar.name).around)

    def was_told(self, run: int, place: str, target: str) -> bool:
        """Whether an earlier try of that run has told it to others already."""
        return self._ledger.was_told(run, place, target)

    def find_made(self, place: str, lineage: Lineage) -> ExistingThing | Missing:
        """What stands of that lineage, or what is known of its absence.

        Raises PlaceTrouble where the calendar cannot be reached.
        """
        calendar = self.calendar(place)
        mark = lineage.to_mark()
        known = self._ledger.made(calendar.name, mark) if self._knows(calendar.name) else None
        if known is None:
            stored = calendar.find_marked(mark)
            if stored is None:
                return Missing(1)
            number = _number_of(lineage, stored.event.uid)
            if self._knows(calendar.name) and self._ledger.mark_of(calendar.name, stored.event.uid) not in ("", mark):
                return Missing(number + 1)  # its subject is called otherwise now: the mark is of before
            return self._as_intended(stored, number, lineage, calendar.name)
        stored = calendar.find_event(known.uid)
        if stored is None:
            return Missing(known.number + 1, by_another=bool(known.version))
        return ExistingThing(stored, known.number, stored.version == known.version, known.base)

    def _as_intended(self, stored: StoredEvent, number: int, lineage: Lineage, place: str) -> ExistingThing:
        """What has our mark, though no answer ever said that it was made: held against what we meant to write."""
        event = stored.event
        fields = self._ledger.written(lineage.workflow, lineage.subject, place, event.uid)
        intended = from_content(event.uid, type(event), fields) if fields else None
        is_untouched = intended is not None and not changed_fields(intended, event)
        return ExistingThing(stored, number, is_untouched, to_state(intended) if intended else None)

    def made_otherwise(self, place: str, lineage: Lineage, steps: Collection[str]) -> list[StoredEvent]:
        """What stands there of the same subject, made by steps of the same workflow that it does not hold any more.

        Raises PlaceTrouble where the calendar cannot be reached.
        """
        calendar = self.calendar(place)
        known = self._knows(calendar.name)
        found = {}
        for begin in lineage.of_subject:
            marks = self._ledger.marks_made(calendar.name, begin) if known else calendar.find_marks(begin)
            for mark, uid in marks.items():
                made = Lineage.from_mark(mark)
                if made is not None and made.step not in steps and made.repetition == lineage.repetition:
                    found[uid] = calendar.find_event(uid)
        return [stored for stored in found.values() if stored is not None]

    def written_fields(self, place: str, uid: str, lineage: Lineage) -> dict[str, Any]:
        """The fields of the thing as runs of that workflow about that subject last wrote them; empty if they did not
        make it."""
        return self._ledger.written(lineage.workflow, lineage.subject, self.calendar(place).name, uid)

    def _knows(self, calendar: str) -> bool:
        """Whether the ledger knows of anything made there before this batch."""
        if calendar not in self._has_made:
            self._has_made[calendar] = self._ledger.has_made(calendar)
        return self._has_made[calendar]

    def marks_made(self, place: str, prefix: str) -> Collection[str]:
        """The marks of ours that begin so, of things that were made at the place."""
        if place.lower() not in self._dated:
            return self._ledger.marks_made(self.sheet(place).name, prefix)
        calendar = self.calendar(place)
        return (
            self._ledger.marks_made(calendar.name, prefix)
            if self._knows(calendar.name)
            else calendar.find_marks(prefix)
        )

    def find_clashes(self, place: str, event: Event, ahead: timedelta = _SERIES_LOOKED_AT) -> list[Event]:
        """Occurrences at that calendar that take the event's time, its own lineage left out; of a series those within
        ``ahead``.

        Raises PlaceTrouble where the calendar cannot be reached.
        """
        calendar = self.calendar(place)
        zone = calendar.zone
        low, high = event.span(zone)
        if event.rule:
            high = low + ahead
        mine = expand_events([event], low, high, zone)
        others = [
            *calendar.find_between(low, high),
            *expand_events(self._planned.get(calendar.name, ()), low, high, zone),
        ]
        rule = calendar.clash_rule
        counted = [each for each in others if each.takes_time and each.uid != event.uid and rule.concerns(event, each)]
        return rule.in_the_way(mine, counted, zone)

    def presence_of(self, place: str, person: Person) -> Presence:
        """What a person shows in a chat."""
        return self._places.chats[place.lower()].presence_of(person)

    def claims_on(self, place: str, person: Person) -> list[Claim]:
        """The claims on what they show that have not ended."""
        return self._ledger.claims(self._places.chats[place.lower()].name, person.name.lower())

    def presence_before(self, place: str, person: Person) -> Presence | None:
        """What comes back when every claim ends; None where nothing does, since a hand changed it."""
        chat = self._places.chats[place.lower()]
        known = self._ledger.presence(chat.name, person.name.lower())
        return Presence.of(known[0]) if known and chat.presence_of(person) == Presence.of(known[1]) else None

    def person_of(self, name: str) -> Person | None:
        """The person of [people] of that name."""
        return self.workspace.people.find(name)

    def rooms_of(self, place: str) -> Sequence[str]:
        """The rooms of a chat."""
        return self._places.chats[place.lower()].rooms

    def made(self, place: str, lineage: str) -> MadeThing | None:
        """The newest event, task or row of that lineage, as far as we know."""
        return self._ledger.made(place, lineage)

    def runs(self, numbers: Sequence[int]) -> list[RunRecord]:
        """These runs, newest first."""
        return self._ledger.runs(numbers=numbers, limit=len(numbers))

    def runs_about(self, workflow: str, place: str, subject: str) -> list[RunRecord]:
        """The runs of a workflow about a subject, newest first."""
        return [each for each in self._ledger.runs(workflow=workflow, subject=subject) if each.place == place]

    def runs_to_undo(self, numbers: Sequence[int]) -> list[RunRecord]:
        """These runs, and those that they set off, in the order in which they are undone. Raises RequestFault."""
        return choose_runs(self._ledger, numbers)

    def effects_of(self, run: int) -> list[JournalEntry]:
        """What a run did, in order."""
        return self._ledger.effects_done(run)

    def note_undone(self, run: int, record: RunRecord) -> None:
        """Marks a run as undone by another one, and holds its subject until a person changes it."""
        self._ledger.note_undone(run, record)

    def recall(self, name: str) -> str:
        """A text that was kept under that name, empty if there is none."""
        return self._ledger.meta(name)

    def keep(self, name: str, text: str) -> None:
        """Keeps a text under that name; at once, also where the run fails."""
        self._ledger.set_meta(name, text)

    def outbox_names(self) -> list[str]:
        """The names of the places that emails can go out by."""
        return [outbox.name for outbox in self._places.outboxes.values()]

    def after_email(self, place: str) -> tuple[str, str]:
        """What a mailbox does with an email whose run is done, and the folder into which it then goes."""
        mailbox = self._places.mailboxes[place.lower()]
        return mailbox.after, mailbox.done

    def now(self) -> datetime:
        """The moment, for what is stamped with it."""
        return self.clock.now()

    def invitation_outbox(self) -> str:
        """The outbox by which invitations go: the one that sends as the organizer, else the only one, or the first.
        Raises RowFault where there is none."""
        outboxes = list(self._places.outboxes.values())
        if not outboxes:
            raise RowFault("there is no outbox by which invitations could go", fix='add a place of the kind "outbox"')
        organizer = self.workspace.people.organizer.lower()
        return next((each.name for each in outboxes if each.sender.lower() == organizer), outboxes[0].name)

    def sender_of(self, outbox: str) -> str:
        """The address from which an outbox sends."""
        return self._places.outboxes[outbox.lower()].sender

    def said_before(self, place: str, once: str) -> str:
        """What was remembered at a place under that word, empty if nothing was."""
        return self._said.get((place, once)) or self._ledger.taken_before(place, once) or ""

    def note_said(self, place: str, once: str, said: str) -> None:
        """Remembers it from now on: the record of it comes with the next one."""
        self._said[place, once] = said

    def may_answer(self, outbox: str, address: str, day: str, most: int) -> bool:
        """Whether an address may get one more answer that day; counts it."""
        known = (outbox, address.lower(), day)
        if known not in self._answered:
            count = 0
            while count < most and self.said_before(outbox, f"answered {day} {address.lower()} {count + 1}"):
                count += 1
            self._answered[known] = count
        self._answered[known] += 1
        return self._answered[known] <= most

    def emails(self, place: str) -> Iterator[tuple[str, RowState]]:
        """The emails of a mailbox that were seen, as far as is known of them, in the order they came."""
        name = self._places.mailboxes[place.lower()].name
        standing = self._ledger.standing(name)
        for key, _ in self._ledger.standing_sequences(name):
            if (state := standing.get(key)) is not None:
                yield key, state

    def email_name(self, place: str, key: str) -> str:
        """What a mailbox called an email when it came."""
        return str((self._ledger.standing(place, [key]).get(key) or {}).get(NAME) or "")

    def email_thing(self, place: str, key: str) -> EmailThing | None:
        """An email as workflows see it, read now where only its head is known; None where it is gone."""
        mailbox = self._places.mailboxes[place.lower()]
        state = self._ledger.standing(mailbox.name, [key]).get(key)
        if state is not None and state.get(BRIEF):
            state = mailbox.read(key, str(state.get(NAME) or ""))
        return None if state is None else EmailThing(key, state, mailbox.name, mailbox.zone)

    def email(self, place: str, key: str) -> bytes:
        """An email as it came. Raises RowFault where it is gone, PlaceTrouble."""
        return self._places.mailboxes[place.lower()].raw(key, self.email_name(place, key))

    def attached(self, thing: AttachmentThing) -> bytes:
        """What is attached to an email. Raises RowFault where that is gone, PlaceTrouble."""
        return self._places.mailboxes[thing.place.lower()].part(self.email(thing.place, thing.email), thing.part)

    def busy_elsewhere(self, address: str, low: datetime, high: datetime) -> FreeBusy | None:
        """When somebody is busy by what is told elsewhere, None where nothing is. Raises SourceFault, PlaceTrouble, and
        RowFault for a file that is not there."""
        person = self.workspace.people.find(address)
        if person is None or person.busy_at is None:
            return None
        where = person.busy_at.where
        match person.busy_at.way:
            case "web":
                return self._places.fetch_free_busy(where)
            case "file":
                return read_free_busy(self.workspace_file(where), where)
            case "calendar":
                return self.calendar(where).busy_times(low, high)
            case "server":
                return self.calendar(where).busy_times_of(address, low, high)

    def workspace_file(self, name: str) -> bytes:
        """A file in the workspace's folder. Raises RowFault where there is none."""
        found = self.file_of_workspace(name)
        if found is None:
            raise RowFault(f'there is no file "{name}" in the workspace', fix="look at its name")
        return found

    def file_of_workspace(self, name: str) -> bytes | None:
        """A file in the workspace's folder, None where there is none. Raises RowFault for one outside of it."""
        folder = self.workspace.folder.resolve()
        path = (folder / name).resolve()
        if not path.is_relative_to(folder):
            raise RowFault(f'"{name}" is not in the workspace', fix="give a name in its folder")
        return read_regular(path) if path.is_file() else None


def _number_of(lineage: Lineage, uid: str) -> int:
    return next((number for number in range(1, _MOST_CANCELLED) if lineage.to_uid(number) == uid), 1)
