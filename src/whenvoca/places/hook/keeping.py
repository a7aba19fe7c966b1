"""What a web call says, kept in the ledger."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime
from typing import Any

from whenvoca.engine.ledger.protocol import Ledger
from whenvoca.engine.ledger.records import KeptEntry
from whenvoca.engine.things.entry import VERSION
from whenvoca.places.hook.reading import WebCall, is_older


def keep_call(ledger: Ledger, hook: str, call: WebCall, now: datetime) -> tuple[int, list[str], int]:
    """Keeps what a call says; answers its number, its subjects, and the newest change at the hook. A repetition changes
    nothing, and is answered as the first one was."""
    known = ledger.taken_before(hook, call.once)
    if known is not None:
        first, *subjects = known.split("\n")
        return int(first), subjects, ledger.last_arrival(hook)
    number = ledger.next_number(hook)
    subjects, arrival = [], 0
    for index, each in enumerate(call.elements, 1):
        subject = each.about or (str(number) if len(call.elements) == 1 else f"{number}.{index}")
        subjects.append(subject)
        earlier = ledger.entry(hook, subject) if each.about else None
        before: Mapping[str, Any] = (earlier.state or {}) if earlier is not None else {}
        if is_older(each.newer, before.get(VERSION)):
            continue
        if each.is_gone and not before:
            continue
        values = {**before, **each.values, "number": number, "sent": now}
        if each.newer is not None:
            values[VERSION] = each.newer
        state = None if each.is_gone else {name: value for name, value in values.items() if value is not None}
        arrival = ledger.put_entry(hook, KeptEntry(subject, number, now.isoformat(), state))
    ledger.remember_once(hook, call.once, "\n".join([str(number), *subjects]), now.isoformat())
    return number, subjects, arrival or ledger.last_arrival(hook)
