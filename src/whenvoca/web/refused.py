"""What was refused at a hook lately, for whoever sets it up: the reasons, and nothing of what was sent."""

from __future__ import annotations

import json
from collections.abc import Mapping
from typing import Any

from whenvoca.engine.ledger.protocol import Ledger

_MOST = 5
_NAME = "refused "  # begins the name under which they are kept


def note_refused(ledger: Ledger, place: str, refused: Mapping[str, Any]) -> None:
    """Keeps it, and forgets the oldest."""
    kept = [*refused_at(ledger, place), dict(refused)]
    ledger.set_meta(f"{_NAME}{place.lower()}", json.dumps(kept[-_MOST:]))


def refused_at(ledger: Ledger, place: str) -> list[dict[str, Any]]:
    """What was refused there lately, the newest last."""
    text = ledger.meta(f"{_NAME}{place.lower()}")
    found: list[dict[str, Any]] = json.loads(text) if text else []
    return found
