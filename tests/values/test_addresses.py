"""Email addresses: what is one, how it goes out, and lists of them."""

from __future__ import annotations

import pytest
from email_validator import validate_email
from hypothesis import given
from hypothesis import strategies as st

from whenvoca.values.addresses import is_address, shape_addresses, split_addresses, to_address

ADDRESSES = [
    ("ines@example.org", "ines@example.org"),
    ("o'brien+tag@sub.example.org", "o'brien+tag@sub.example.org"),
    ("a@exämple.org", "a@xn--exmple-cua.org"),
    ("a@ＥＸÄMPLE.org", "a@xn--exmple-cua.org"),
    ("a@例え.example.org", "a@xn--r8jz45g.example.org"),
    *((wrong, "") for wrong in ("", "ines", "@example.org", "a@", "a@b@example.org", "a b@example.org", "a@example")),
    *((wrong, "") for wrong in ("a..b@example.org", ".a@example.org", "a.@example.org", "a@example..org")),
    *((wrong, "") for wrong in ("a@-b.org", "a@b-.org", "a@exam_ple.org", "a@example.org.", "a@example.org?subject=x")),
    *((wrong, "") for wrong in ("ä@example.org", "a@exä..org", "a@ä b.org", "a@\u202eexample.org", "a@example.org\n")),
    *((wrong, "") for wrong in (f"{'a' * 65}@example.org", f"a@{'b' * 64}.org", f"a@{'b.' * 130}org")),
    *((wrong, "") for wrong in ("a@example.org, b@example.org", "<a@example.org>", '"a b"@example.org', "a[b]@c.org")),
]


@pytest.mark.parametrize(("text", "address"), ADDRESSES)
def test_an_address_goes_out_as_such_or_is_none(text: str, address: str) -> None:
    assert to_address(text) == address


@given(st.from_regex(r"[\w.'+!-]{1,12}@[\w.-]{1,20}\.(org|com)", fullmatch=True) | st.text(max_size=20))
def test_what_we_accept_a_library_of_addresses_accepts_too(text: str) -> None:
    """email-validator is the oracle."""
    address = to_address(text)
    if address:
        found = validate_email(address, check_deliverability=False, test_environment=True)
        assert (found.ascii_email or "").lower() == address.lower()


def test_lists_are_split_as_people_write_them() -> None:
    assert split_addresses('"Ana, M." <ana@example.org>; rui@example.org\nmailto:ines@example.org, tomas') == [
        "ana@example.org",
        "rui@example.org",
        "ines@example.org",
        "tomas",
    ]


LISTS = [
    ("a@example.org", ["a@example.org"]),
    ("a@example.org, b@example.org;c@example.org", ["a@example.org", "b@example.org", "c@example.org"]),
    ('"Sá, Inês" <ines@example.org>, tomas@example.org', ["ines@example.org", "tomas@example.org"]),
    ("mailto:a@example.org", ["a@example.org"]),
    ("a@example.org,,;", ["a@example.org"]),
    ("a@example.org\nb@example.org", ["a@example.org", "b@example.org"]),
    ("", []),
    (" , ", []),
    ("Rui", ["Rui"]),
]


@pytest.mark.parametrize(("text", "pieces"), LISTS, ids=[repr(text)[:30] for text, _ in LISTS])
def test_lists_of_addresses_are_parted(text: str, pieces: list[str]) -> None:
    assert split_addresses(text) == pieces


@pytest.mark.parametrize(
    ("text", "fault"),
    [("a@example.org, rui@", '"rui@" is not an email address'), ("a@example.org b@example.org", None)],
)
def test_a_broken_address_among_good_ones_is_named(text: str, fault: str | None) -> None:
    shaped = shape_addresses(text)
    assert (shaped.fault if shaped else None) == fault


def test_names_of_people_may_stand_where_addresses_do() -> None:
    known = shape_addresses("Rui, Inês", {"rui", "inês"})
    assert known is not None
    assert known.fits[""] == ["Rui", "Inês"]
    assert shape_addresses("Rui, Zé", {"rui"}) is None
    mixed = shape_addresses("rui; a@example.org", {"rui"})
    assert mixed is not None
    assert mixed.fits[""] == ["rui", "a@example.org"]


@pytest.mark.parametrize(
    "text", ["a@b", "a b@example.org", "@example.org", "a@example.", "a@exa mple.org", "x" * 250 + "@example.org"]
)
def test_what_is_no_address(text: str) -> None:
    assert not is_address(text)
