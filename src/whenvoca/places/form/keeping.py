"""What somebody filled in, kept in the ledger."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime
from typing import Any

from whenvoca.engine.ledger.protocol import Ledger
from whenvoca.engine.ledger.records import KeptEntry


def keep_entry(
    ledger: Ledger, form: str, values: Mapping[str, Any], now: datetime, *, once: str = "", subject: str = ""
) -> str:
    """Keeps an entry; answers its subject, which is its number. ``subject``: of the entry, where it has come in before;
    ``once``: the word of its page, by which a repetition is known."""
    earlier = ledger.entry(form, subject) if subject else None
    number = earlier.number if earlier is not None else ledger.next_number(form)
    state = {**values, "number": number, "sent": now}
    ledger.put_entry(form, KeptEntry(str(number), number, now.isoformat(), state), once)
    return str(number)
