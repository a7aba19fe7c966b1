"""Readings that are offered to choose from, in words."""

from __future__ import annotations

from collections.abc import Sequence

from whenvoca.speech.agenda import show_target
from whenvoca.speech.reply import tell_offer
from whenvoca.speech.request import Intent, Request, Surroundings, Target

_MOST_LISTED = 8


def offer(readings: Sequence[Request], around: Surroundings) -> Request:
    """The question which of these is meant."""
    first = readings[0]
    today = around.now.astimezone(around.zone).date()
    told = [tell_offer(each, around.zone, today) for each in readings]
    if len(readings) == 1:
        question, missing = f"{told[0]}\nIs that meant? (yes or no)", ["yes"]
    else:
        lines = "\n".join(f"{n}. {each}" for n, each in enumerate(told, 1))
        question, missing = f"Which is meant?\n{lines}\n(yes for the first)", ["which"]
    return Request(
        "ask",
        events=first.events,
        targets=first.targets,
        scope=first.scope,
        changes=first.changes,
        own_changes=first.own_changes,
        question=question,
        missing=missing,
        purpose=first.intent,
        because=first.because,
        offers=list(readings),
    )


def which_of(targets: Sequence[Target], verb: Intent, around: Surroundings) -> Request:
    """The question which of several events is meant."""
    lines = [f"{n}. {show_target(each, around.zone)}" for n, each in enumerate(targets[:_MOST_LISTED], 1)]
    question = f"Which one shall I {verb}?\n" + "\n".join(lines)
    return Request("ask", targets=list(targets), question=question, missing=["which"], purpose=verb)
