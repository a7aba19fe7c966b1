"""What is done with an email whose run is done: it is flagged, or moved into another folder of its mailbox."""

from __future__ import annotations

from contextlib import suppress

from whenvoca.engine.acting.keyed import Performing
from whenvoca.engine.acting.run_context import RunContext
from whenvoca.engine.effects import Effect, EffectKey
from whenvoca.engine.things.email import EmailThing
from whenvoca.errors import RowFault

_VERB = "file email"


def afterwards(performing: Performing, context: RunContext) -> Performing:
    """The same effects, and then what the mailbox's `after` says."""
    made = yield from performing
    email = context.scope.subject
    if isinstance(email, EmailThing):
        after, folder = context.stage.after_email(email.place)
        told = {"flagged": True} if after == "flag" else {"folder": folder} if after == "move" else None
        if told is not None:
            name = context.stage.email_name(email.place, email.key)
            before = {"flagged": False} if after == "flag" else {"folder": ""}
            effect = Effect(verb=_VERB, place=email.place, target=email.key, before=before, after=told, version=name)
            with suppress(RowFault):  # somebody has moved or deleted it
                yield EffectKey("afterwards", "", 1, email.key), effect
    return made
