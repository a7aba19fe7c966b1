"""Who a thing is, what the brake counts, and answers to what a workflow asks."""

from __future__ import annotations

import uuid
from datetime import date, datetime, time
from decimal import Decimal
from typing import Any
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given
from hypothesis import strategies as st

from whenvoca.engine.acting.questions import Question, read_answer
from whenvoca.engine.effects import Effect, show_field
from whenvoca.engine.lineage import Lineage, new_root, uuid5
from whenvoca.engine.people import People, Person
from whenvoca.engine.running.brake import Held, Losses, to_held
from whenvoca.errors import RequestFault
from whenvoca.open_workspace import EFFECT_KINDS
from whenvoca.values.durations import Duration

AZORES = ZoneInfo("Atlantic/Azores")
PARTS = st.text(min_size=0, max_size=12)


@given(PARTS, PARTS, PARTS, PARTS, PARTS)
def test_marks_tell_the_whole_lineage(root: str, workflow: str, subject: str, step: str, repetition: str) -> None:
    lineage = Lineage(root, workflow, subject, step, repetition)
    mark = lineage.to_mark()
    assert Lineage.from_mark(mark) == lineage
    assert mark.startswith(Lineage.prefix(root, workflow))
    assert mark.isascii()


@given(st.uuids(), st.text(max_size=40))
def test_uids_are_those_of_the_standard(namespace: uuid.UUID, name: str) -> None:
    assert uuid5(namespace.bytes, name) == str(uuid.uuid5(namespace, name))


def test_each_thing_of_a_lineage_and_each_root_has_uids_of_its_own() -> None:
    one, other = (Lineage(new_root(), "w", "R-1", "slot") for _ in range(2))
    uids = [one.to_uid(1), one.to_uid(2), other.to_uid(1), Lineage(one.root, "w", "R-1", "slot", "2").to_uid(1)]
    assert len(set(uids)) == 4
    assert one.to_uid(1) == uids[0]


@pytest.mark.parametrize("mark", ["", "a/b", "a/b/c/d", "a/b/c/d/e/f"])
def test_marks_of_others_are_none_of_ours(mark: str) -> None:
    assert Lineage.from_mark(mark) is None


VERBS: list[tuple[str, str, str]] = [
    ("create event", "create", "event"),
    ("put back row", "put back", "row"),
    ("take event as made", "take", "event"),
    ("fill sheet", "fill", "sheet"),
    ("take task as made", "take", "task"),
    ("set presence", "set", "presence"),
]


@pytest.mark.parametrize(("verb", "action", "noun"), VERBS)
def test_a_verb_is_an_action_and_a_noun(verb: str, action: str, noun: str) -> None:
    effect = Effect(verb=verb, place="p", target="t")
    assert (effect.action, effect.noun) == (action, noun)


SHOWN = [
    ("reminder", [Duration(seconds=-1500), Duration(seconds=600)], "25 minutes before, 10 minutes after"),
    ("reminder", Duration(seconds=-60), "1 minute before"),
    ("reminder", [], ""),
    ("Link", "file:///home/x/domes/u.ics", "file://…/u.ics"),
    ("title", "M 42", "M 42"),
    ("busy", None, ""),
]


@pytest.mark.parametrize(("name", "value", "text"), SHOWN)
def test_fields_as_people_see_them(name: str, value: Any, text: str) -> None:
    assert show_field(name, value) == text


def test_effects_are_the_same_whatever_they_carry_along() -> None:
    plain = Effect(place="p", verb="change row", target="R-1", after={"A": "x"})
    assert plain == Effect(place="p", verb="change row", target="R-1", after={"A": "x"}, stored=object())
    assert plain != Effect(place="p", verb="change row", target="R-2", after={"A": "x"})


# --- the brake


def effects(**counts: int) -> list[Effect]:
    """So many effects of each verb, its blank written as an underscore."""
    verbs: list[Any] = [name.replace("_", " ") for name, number in counts.items() for _ in range(number)]
    return [Effect(place="p", verb=verb, target=str(number)) for number, verb in enumerate(verbs)]


LIMITS = {"deletion": 2, "email": 3}
HELD: list[tuple[str, list[Effect], dict[str, Any], str]] = [
    ("nothing", [], {}, ""),
    ("within", effects(delete_event=2, send_email=3), {}, ""),
    ("changes are free", effects(change_event=99), {}, ""),
    ("deletions", effects(delete_event=1, delete_row=2), {}, "w: 3 deletions at once, and its brake allows 2"),
    ("emails", effects(send_email=4), {}, "w: 4 emails at once, and its brake allows 3"),
    (
        "with those before",
        effects(delete_event=1),
        {"recent": {"deletion": 2}},
        "w: 3 deletions at once, and its brake allows 2",
    ),
    ("those before alone hold nothing", [], {"recent": {"deletion": 9}}, ""),
    (
        "orphans",
        effects(delete_event=1),
        {"losses": Losses(orphans=1)},
        "w: 1 of its events belong to rows that are not there, and would be deleted",
    ),
    (
        "cut in half",
        effects(delete_event=2),
        {"losses": Losses(kept=3)},
        "w: 2 deletions at once, half of what there is or more",
    ),
    (
        "cut in half and too many",
        effects(delete_event=3),
        {"losses": Losses(kept=4)},
        "w: 3 deletions at once, and its brake allows 2",
    ),
    ("cut, but nothing goes", effects(change_event=3), {"losses": Losses(kept=3, is_emptied=True)}, ""),
    (
        "emptied",
        effects(delete_event=1),
        {"losses": Losses(kept=1, is_emptied=True)},
        "w: nothing is left of what it looks at, which would be 1 deletion",
    ),
]


@pytest.mark.parametrize(
    ("planned", "more", "said"),
    [(planned, more, said) for _, planned, more, said in HELD],
    ids=[name for name, *_ in HELD],
)
def test_what_the_brake_holds(planned: list[Effect], more: dict[str, Any], said: str) -> None:
    held = to_held("w", EFFECT_KINDS, LIMITS, planned, **more)
    assert (held.said if held else "") == said
    assert not isinstance(held, Held) or all(each.action in ("delete", "send") for each in held.effects)


@pytest.mark.parametrize(
    ("kept", "deletions", "halved"),
    [
        (1, 1, False),
        (2, 2, True),
        (3, 2, True),
        (4, 2, False),
        (8, 4, False),
        (10, 5, True),
        (11, 5, False),
        (0, 9, False),
    ],
)
def test_a_source_that_is_half_as_long_looks_cut(kept: int, deletions: int, halved: bool) -> None:
    assert Losses(kept=kept).is_halved(deletions) is halved


# --- answers

ANSWERS = [
    ("number", "35", 35),
    ("number", "2,5", Decimal("2.5")),
    ("yes/no", "Y", True),
    ("yes/no", "no", False),
    ("date", "24 March 2027", date(2027, 3, 24)),
    ("date", "03/04/2027", date(2027, 4, 3)),
    ("time", "9:30 pm", time(21, 30)),
    ("time", "noon", time(12)),
    ("moment", "2027-03-24 21:30", datetime(2027, 3, 24, 21, 30, tzinfo=AZORES)),
    ("moment", "24 March 2027 at 21:30", datetime(2027, 3, 24, 21, 30, tzinfo=AZORES)),
    ("duration", "45 minutes", Duration(seconds=2700)),
    ("duration", "1:30", Duration(seconds=5400)),
    ("list", "a\r\n\n b ", ["a", "b"]),
    ("text", "  as it is ", "as it is"),
]


@pytest.mark.parametrize(("kind", "text", "value"), ANSWERS, ids=[f"{kind}: {text!r}" for kind, text, _ in ANSWERS])
def test_answers_are_read_by_their_kind(kind: str, text: str, value: Any) -> None:
    assert read_answer(Question("q", "?", kind), text, AZORES, "day first") == value


@pytest.mark.parametrize(
    ("kind", "text"),
    [
        ("number", "many"),
        ("yes/no", "maybe"),
        ("date", "03/13/2027"),
        ("date", "soon"),
        ("time", "25:00"),
        ("moment", "2027-03-28 00:30"),
        ("duration", "long"),
    ],
)
def test_answers_of_another_kind_are_refused(kind: str, text: str) -> None:
    with pytest.raises(RequestFault, match=f'q: "{text}" is no {kind}'):
        read_answer(Question("q", "?", kind), text, AZORES, "day first")


def test_an_empty_answer_is_the_default_or_none() -> None:
    assert read_answer(Question("q", "?", "number", default=4), " ", AZORES) == 4
    with pytest.raises(RequestFault, match='"q" is empty'):
        read_answer(Question("q", "?"), "", AZORES)


def test_choices_are_taken_without_regard_to_case_and_the_nearest_is_named() -> None:
    question = Question("hall", "?", choices=("North", "South"))
    assert read_answer(question, "north", AZORES) == "North"
    with pytest.raises(RequestFault, match="none of the choices") as caught:
        read_answer(question, "Nroth", AZORES)
    assert "North" in caught.value.fix


def test_people_are_found_by_whatever_they_are_known_by() -> None:
    people = People.of([Person("Inês", mail="ines@example.org", chat="ines@chat.example.org"), Person("Rui")])
    assert people.to_address(" inês ") == "ines@example.org"
    assert people.to_address("Rui") == "Rui"
    assert people.to_address("x@example.org") == "x@example.org"
    for name in ("Inês", "INES@example.org", "mailto:ines@example.org", "ines@chat.example.org"):
        found = people.find(name)
        assert found is not None
        assert found.name == "Inês"
    assert people.find("nobody") is None
