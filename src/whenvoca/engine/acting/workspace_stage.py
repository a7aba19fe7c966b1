"""The stage on the places of a workspace, whole: what the engine does with it besides what steps may.

On the places themselves it is the live one; on rehearsed places, with a copy of the ledger, nothing is written. Effects
on sheets stay pending until their file is saved; the other places write a group at once.
"""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from functools import partial

from whenvoca.engine.acting.effect_kind import EffectKinds
from whenvoca.engine.acting.stage import Stage
from whenvoca.engine.all_places import Places
from whenvoca.engine.clock import Clock
from whenvoca.engine.effects import Effect, Receipt
from whenvoca.engine.ledger.protocol import Ledger
from whenvoca.engine.message_protocols import Presence
from whenvoca.engine.one_by_one import each_by_itself
from whenvoca.engine.people import Person
from whenvoca.engine.place_protocols import Writer
from whenvoca.engine.workspace.settings import Workspace
from whenvoca.errors import PlaceTrouble, RowFault, WhenvocaError


class WorkspaceStage(Stage):
    """A stage with the places that it writes to, the record that runs are kept in and the clock that they go by."""

    def __init__(self, workspace: Workspace, places: Places, ledger: Ledger, clock: Clock, kinds: EffectKinds) -> None:
        super().__init__(workspace, places, ledger, clock, kinds)
        self.places, self.ledger = places, ledger

    def on(self, places: Places, ledger: Ledger) -> WorkspaceStage:
        """The same stage on other places, with another record: to rehearse, or on places opened afresh."""
        return WorkspaceStage(self.workspace, places, ledger, self.clock, self.kinds)

    def plan(self, effect: Effect) -> None:
        """Notes an event that is about to be made, so that later rows of the batch see it."""
        if effect.event is not None and effect.action == "create":
            self._planned.setdefault(effect.place, []).append(effect.event)

    def apply(self, numbered: Sequence[tuple[int, Effect]], stamp: datetime) -> list[Receipt | WhenvocaError]:
        """Writes one round of a group, each place's effects together; answers a receipt or error for each."""
        results: dict[int, Receipt | WhenvocaError] = {}
        groups: dict[str, list[tuple[int, Effect]]] = {}
        for number, effect in numbered:
            groups.setdefault(effect.place, []).append((number, effect))
        for place, group in groups.items():
            if (writer := self.places.writer(place.lower())) is None:
                results |= {number: self._pend(number, effect) for number, effect in group}
                continue
            effects = [effect for _, effect in group]
            try:
                answers = writer.apply(effects, stamp)
            except PlaceTrouble as trouble:
                answers = [trouble] * len(effects)
            except Exception:  # one of them may be to blame; each bears to be done twice, as after a crash
                answers = each_by_itself(effects, partial(_apply_alone, writer, stamp))
            results |= {number: answer for (number, _), answer in zip(group, answers, strict=True)}
        self._planned.clear()
        return [results[number] for number, _ in numbered]

    def _pend(self, number: int, effect: Effect) -> Receipt | WhenvocaError:
        try:
            return self._sheet(effect.place).pend(number, effect)
        except (RowFault, PlaceTrouble) as error:
            return error

    def stop_showing(self, place: str, person: Person) -> None:
        """Shows nothing of ours any more. Raises PlaceTrouble."""
        self.places.chats[place.lower()].stop_showing(person)

    def keep_showing(self, place: str, person: Person, presence: Presence) -> None:
        """Shows again what a claim says, after the program was off."""
        self.places.chats[place.lower()].keep_showing(person, presence)

    def has_chat(self, place: str) -> bool:
        """Whether the workspace has that chat."""
        return place.lower() in self.places.chats


def _apply_alone(writer: Writer, stamp: datetime, effect: Effect) -> Receipt | WhenvocaError:
    (answer,) = writer.apply([effect], stamp)
    return answer
