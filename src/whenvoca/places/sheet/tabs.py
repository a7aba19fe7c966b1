"""Which tabs of a file hold anything: where none is named, and where the one that is named is empty."""

from __future__ import annotations

from whenvoca.errors import SourceFault
from whenvoca.places.sheet.grid import Backing


def first_tab(backing: Backing, data: bytes) -> tuple[str, list[str]]:
    """The first tab that holds anything, or the first one, and the others in order. Raises SourceFault."""
    tabs = backing.tabs(data)
    name = next((tab for tab in tabs if _is_filled(backing, data, tab)), tabs[0]) if tabs else ""
    return name, [tab for tab in tabs if tab != name]


def advice_on_tabs(backing: Backing, data: bytes) -> str:
    """Which tab to name, where several are there or the one that was looked at is empty; empty if none holds data."""
    tabs = backing.tabs(data)
    filled = [tab for tab in tabs if _is_filled(backing, data, tab)]
    if len(tabs) < 2 or not filled:
        return ""
    others = f" (there is data in {', '.join(filled[1:])} too)" if filled[1:] else ""
    return f'name the tab that is meant: tab = "{filled[0]}"{others}'


def _is_filled(backing: Backing, data: bytes, tab: str) -> bool:
    try:
        return any(cell is not None for row in backing.load(data, tab).rows for cell in row)
    except SourceFault:
        return True  # what is wrong with it is said when it is read
