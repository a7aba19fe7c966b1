"""Trying a form or a hook out: samples are read, rehearsed, kept, and nothing of it counts."""

from __future__ import annotations

import json
from collections.abc import Callable
from typing import Any

import pytest

from tests.conftest import SETTINGS, Desk
from tests.web.conftest import ABOUT, FOLLOW, JOANA, LEND, PLACES, VISITS, Site, text_of

MakeSite = Callable[..., Site]
BOOKING = {"number": "B-1", "school": "Furnas", "date": "2027-04-06", "time": "10:00", "pupils": 20}
VISIT = {"id": "a", "bookings": [BOOKING]}


def sample(desk: Desk, data: Any, name: str = "sample.json") -> str:
    return str(desk.write(name, data if isinstance(data, str) else json.dumps(data)))


@pytest.fixture
def still(desk: Desk) -> Desk:
    """The workspace with nobody watching."""
    desk.settings(SETTINGS, PLACES.format(port=1234, form="", hook=ABOUT, web=""))
    desk.workflow(LEND, "lend").workflow(VISITS, "visits")
    return desk


def test_an_entry_in_a_file_is_read_and_rehearsed(still: Desk) -> None:
    file = sample(still, {"place": "lending", "fields": {**JOANA, "purpose": "at school"}})
    told = still.run("read", "entry", file, "--json").json
    assert [each["value"] for each in told["fields"]] == [
        "Joana",
        "joana@example.org",
        "2027-04-02",
        "2027-04-05",
        "at school",
    ]
    assert "2027-04-02" in still.run("read", "entry", file).out
    done = still.run("rehearse", "--sample", file, "--json").json
    [run] = done["runs"]
    assert (run["workflow"], run["outcome"]) == ("lend", "done")
    assert [each["verb"] for each in run["effects"]] == ["create event", "add row"]
    assert still.run("runs", "--json").json["runs"] == []
    assert not (still.folder / "loans").exists()


def test_an_entry_that_would_be_refused(still: Desk) -> None:
    file = sample(still, {"place": "lending", "fields": {**JOANA, "Out": "soon", "Purpose": "for fun"}})
    result = still.run("read", "entry", file)
    assert result.code == 1
    assert '"soon" is not a date' in result.out
    assert '"for fun" is not among the choices' in result.out
    refused = still.run("rehearse", "--sample", file)
    assert refused.code == 2
    assert "the entry would be refused" in refused.err


def test_a_call_in_a_file_is_read_and_rehearsed(still: Desk) -> None:
    file = sample(still, {"place": "bookings", "headers": {"Content-Type": "application/json"}, "body": VISIT})
    told = still.run("read", "call", file, "--json").json
    assert told["once"] == "a"
    [element] = told["elements"]
    assert (element["about"], element["is_gone"]) == ("B-1", False)
    assert element["values"] == {"School": "Furnas", "Day": "2027-04-06", "Time": "10:00", "Pupils": "20"}
    assert "about B-1" in still.run("read", "call", file).out
    [run] = still.run("rehearse", "--sample", file, "--json").json["runs"]
    assert run["effects"][0]["after"]["title"] == "Furnas (20 pupils)"


@pytest.mark.parametrize(
    ("data", "said"),
    [
        ("not JSON", "the file is not JSON"),
        ([], "the sample names no place"),
        ({"place": "lending"}, "neither fields nor a body"),
        ({"place": "landing", "fields": {}}, 'there is no place "landing"'),
        ({"place": "loans", "fields": {}}, "loans is neither a form nor a hook"),
        ({"place": "lending", "fields": {"Nmae": "x"}}, 'lending has no field "Nmae"'),
        ({"place": "lending", "body": {}}, "the sample is of a web call, and the place is a form"),
        ({"place": "bookings", "fields": {}}, "bookings is a hook"),
    ],
)
def test_files_that_are_no_samples(still: Desk, data: Any, said: str) -> None:
    result = still.run("read", "entry", sample(still, data))
    assert result.code == 2
    assert said in result.err


@pytest.mark.parametrize(
    ("body", "said"),
    [
        ({"id": "a", "bookings": "none"}, '"bookings" is not a list'),
        ({"bookings": []}, 'the call has no "id"'),
        ("{broken", "the body is not JSON"),
        ({"id": "a", "bookings": [{"number": 1, "date": "soon"}]}, '"date"'),
    ],
)
def test_calls_that_would_be_refused(still: Desk, body: Any, said: str) -> None:
    file = sample(still, {"place": "bookings", "body": body})
    result = still.run("read", "call", file)
    assert result.code == 1
    assert said in result.out
    assert still.run("rehearse", "--sample", file).code == 2


def test_what_comes_in_is_rehearsed_for_a_while_and_kept_as_a_sample(site: MakeSite) -> None:
    here = site(lend=LEND, visits=VISITS).watch()
    assert "only rehearsed" in here.desk.run("places", "lending", "--rehearse", "10 minutes").out
    answer = here.send()
    assert answer.status_code == 200, answer.text
    assert "This was a rehearsal: nothing was kept. lend: would be done" in text_of(answer.text)
    assert "Small telescope: Joana" in answer.text
    assert here.events() == []
    told = here.desk.run("places", "lending", "--json").json
    assert told["last"] is None
    assert told["rehearsed_until"]
    assert here.desk.run("places", "bookings", "--rehearse", "5 minutes").code == 0
    called = here.call(VISIT).json()
    assert called["rehearsed"] is True
    assert called["runs"][0]["effects"][0]["said"].startswith('"Furnas (20 pupils)"')
    assert here.desk.run("places", "lending", "--rehearse", "0").code == 0
    assert "request number 1" in here.look(here.send())  # the number was not spent on the rehearsal
    assert len(here.events()) == 1
    file = str(here.desk.folder / "call.json")
    assert here.desk.run("places", "bookings", "--save", file).code == 0
    saved = json.loads(here.desk.read("call.json"))
    assert saved == {"place": "bookings", "headers": {"content-type": "application/json"}, "body": VISIT}
    assert "exists already" in here.desk.run("places", "bookings", "--save", file).err
    assert here.desk.run("read", "call", file).code == 0


def test_a_sample_comes_on_top_of_what_came_in(site: MakeSite) -> None:
    here = site(visits=VISITS, follow=FOLLOW).watch()
    here.call(VISIT)
    here.send()
    assert here.watching is not None
    here.watching.stop()
    changed = {"id": "b", "bookings": [{**BOOKING, "pupils": 25}]}
    gone = {"id": "c", "bookings": [{**BOOKING, "status": "cancelled"}]}
    for body, verb in ((changed, "change event"), (gone, "delete event")):
        file = sample(here.desk, {"place": "bookings", "body": body}, f"{verb}.json")
        [run] = here.desk.run("rehearse", "--sample", file, "--json").json["runs"]
        assert [each["verb"] for each in run["effects"]] == [verb]
    here.desk.run("places", "lending", "--save", str(here.desk.folder / "entry.json"))
    saved = json.loads(here.desk.read("entry.json"))
    assert saved["fields"]["Name"] == ["Joana"]


def test_without_anything_to_save_or_to_rehearse(still: Desk) -> None:
    assert "no entry has come in at lending yet" in still.run("places", "lending", "--save", "x.json").err
    assert "is not a duration" in still.run("places", "lending", "--rehearse", "a while").err
    assert "neither a form nor a hook" in still.run("places", "loans", "--rehearse", "5 minutes").err
    assert "needs the name of a place" in still.run("places", "--rehearse", "5 minutes").err
