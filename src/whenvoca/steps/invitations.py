"""What invitations are as effects; no step writes them by itself: they follow from what becomes of events."""

from __future__ import annotations

from typing import Any

from whenvoca.engine.acting.effect_kind import EffectKind, Inverse
from whenvoca.engine.acting.inviting import VERB
from whenvoca.engine.effects import Effect
from whenvoca.steps.messages import message_number, name_addressee


def _follows(stage: Any, effect: Effect, left: list[str]) -> Inverse:
    """What undoes the event sends what follows from that."""
    yield from ()


INVITATION_EFFECT = EffectKind(
    verb=VERB,
    line=lambda effect: f"email to {name_addressee(effect)}: {(effect.after or {}).get('subject')}",
    target=name_addressee,
    detail=lambda effect: str((effect.after or {}).get("subject")),
    counts_as=("email",),
    counts_with=lambda effect: message_number(effect.target),
    told_as=lambda effect: f"the invitation of {name_addressee(effect)}",
    invert=_follows,
)
