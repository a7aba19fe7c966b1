"""The town that an address names."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from whenvoca.values.towns import town_of

ADDRESSES = [
    ("Quay School, Rua 1, Port Town", "Port Town"),
    ("Ridge School, Port Town", "Port Town"),
    ("Port Town", "Port Town"),
    ("Rua 1, 9500-123 Port Town", "Port Town"),
    ("Rua do Farol 3\n9930-123 Lajes\nPortugal", "Lajes"),
    ("Rua do Farol 3, 9930-123 Lajes, PT", "Lajes"),
    ("9500-123 Port Town", "Port Town"),
    ("10 Main St, Springfield, IL 62704", "Springfield"),
    ("10 Main St, Springfield IL 62704, USA", "Springfield"),
    ("10 Long Street, London SW1A 2AA", "London"),
    ("Hauptstr. 5, D-10115 Berlin, Deutschland", "Berlin"),
    ("Kerkstraat 1, 1017 GA Amsterdam", "Amsterdam"),
    ("Room 12", ""),
    ("Hall, 12", ""),
    ("Portugal", ""),
    ("12", ""),
    ("", ""),
]


@pytest.mark.parametrize(("address", "town"), ADDRESSES)
def test_town_of_an_address(address: str, town: str) -> None:
    assert town_of(address) == town


@given(st.text())
def test_any_text_has_a_town_or_none(text: str) -> None:
    assert all(word in text for word in town_of(text).split())
