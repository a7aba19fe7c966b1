"""What a calendar or list of tasks holds where some of its pieces cannot be read: those that can, and what is said of
the others."""

from __future__ import annotations

from whenvoca.calendars.event import Event
from whenvoca.engine.place_protocols import Calendar, Resource
from whenvoca.errors import SourceFault, WhenvocaError


def read_pieces(calendar: Calendar) -> tuple[list[Event], list[WhenvocaError]]:
    """All events or tasks of the pieces that can be read, and a fault for each of the others. Raises PlaceTrouble."""
    found: dict[str, list[Event]] = {}
    known: dict[str, Resource] = {}
    faults: dict[str, None] = {}  # one that cannot be read is told by each look
    while True:
        try:
            look = calendar.look(known, "")
        except SourceFault as fault:
            return [], [fault]
        found |= {name: events for name, (_, events) in look.changed.items()}
        faults |= dict.fromkeys(look.faults)
        if not look.is_partial:
            break
        known |= {name: resource for name, (resource, _) in look.changed.items()}
    return [event for piece in found.values() for event in piece], [SourceFault(fault) for fault in faults]
