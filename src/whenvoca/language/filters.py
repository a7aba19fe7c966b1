"""A condition by itself, outside of a workflow: what events a command is about."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime
from typing import Any
from zoneinfo import ZoneInfo

from whenvoca.errors import RequestFault
from whenvoca.language.evaluation import Compiler, Scope
from whenvoca.language.expressions import read_condition
from whenvoca.language.faults import FaultList
from whenvoca.language.inference import Inference
from whenvoca.language.names import Names
from whenvoca.language.tokens import Piece
from whenvoca.language.types import Type


def read_filter(text: str, kind: Type, now: datetime, zone: ZoneInfo, option: str) -> Callable[[Any], bool]:
    """What tells whether a thing of that type fits a condition in the workflow language. Raises RequestFault."""
    faults = FaultList(option, text)
    node = read_condition([Piece(text, 1, 1)], faults)
    if node is not None and not faults:
        Inference(faults).condition(node, Names(subject=kind, is_look_up=True))
    if node is None or faults:
        first = faults.sorted()[0] if faults else None
        said = first.message if first is not None else "is no condition"
        raise RequestFault(f"{option}: {said}", fix=(first.fix if first else "") or 'such as "location is \\"Hall\\""')
    holds = Compiler(frozenset(kind.fields)).condition(node)
    return lambda thing: holds(Scope(thing, "", now, zone))
