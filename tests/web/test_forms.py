"""A form on the web: what is answered is what was done; nothing twice, nothing lost, nothing told to strangers."""

from __future__ import annotations

import re
import ssl
import subprocess
import time as time_module
from collections.abc import Callable
from datetime import date, datetime, time
from decimal import Decimal
from typing import Any
from zoneinfo import ZoneInfo

import httpx
import pytest

from tests.web.conftest import FOLLOW, JOANA, LEND, Site, text_of
from whenvoca.places.form.fields import FieldFault, FormField, read_posted
from whenvoca.values.durations import Duration

AZORES = ZoneInfo("Atlantic/Azores")
MakeSite = Callable[..., Site]


def test_an_entry_is_worked_before_it_is_answered(site: MakeSite) -> None:
    here = site(lend=LEND).watch()
    page = here.client.get("/lending", params={"for": "at school"})
    assert page.status_code == 200
    assert 'value="at school" checked' in page.text
    assert "Purpose optional" in text_of(page.text)
    answer = here.send(page="the same")
    assert "yours for these days" in here.look(answer)
    assert "Friday 2 Apr 2027 to Monday 5 Apr 2027" in here.look(answer)
    assert here.events() == ["Small telescope: Joana 2027-04-02T00:00 2027-04-05T00:00"]
    again = here.send(page="the same")  # pressed twice
    assert again.headers["location"] == answer.headers["location"]
    assert "Name,Out\nJoana,2027-04-02" in (here.desk.folder / "loan-book.csv").read_text().replace("\r", "")
    assert len(here.events()) == 1
    ics = here.client.get(f"{answer.headers['location']}/calendar.ics").text
    assert "ATTENDEE:mailto:joana@example.org" in ics
    assert "DTSTART;TZID=Atlantic/Azores:20270402T000000" in ics


def test_what_is_refused_comes_back_with_the_form(site: MakeSite) -> None:
    here = site(lend=LEND).watch()
    here.look(here.send())
    refused = here.send(Name="Marta <b>", Address="marta@example.org", Out="2027-04-04", Back="2027-04-07")
    assert refused.status_code == 422
    days = "2 Apr 2027 up to 4 Apr 2027; it is free again from 5 Apr 2027 on"
    said = f"It cannot go out then: something takes that time, {days}"
    assert said in text_of(refused.text)
    assert "Joana" not in refused.text  # strangers learn when, and not who
    assert 'value="Marta &lt;b&gt;"' in refused.text
    entry, link = (re.search(rf'name="{name}" value="([^"]+)"', refused.text)[1] for name in ("entry", "link"))  # type: ignore[index]
    assert entry == "2"
    corrected = here.send(Name="Marta", Out="2027-04-05", Back="2027-04-07", entry=entry, link=link)
    assert "request number 2" in here.look(corrected)
    assert len(here.events()) == 2
    forged = here.send(Name="Eve", Out="2027-05-05", Back="2027-05-07", entry="1", link=link)
    assert "request number 3" in here.look(forged)  # a link of another entry opens nothing
    assert len(here.events()) == 3


def test_an_entry_that_is_not_settled_has_its_number(site: MakeSite) -> None:
    """What fails without a word for the sender shows in `runs`; the sender gets a number."""
    here = site(lend=LEND.replace("  Out   Out\n", "  Out   Out at (Name as time)\n")).watch()
    assert "We have your request, number 1. It is not settled yet." in here.look(here.send())


def test_an_entry_that_nobody_reads_is_kept(site: MakeSite) -> None:
    here = site().watch()
    assert "We have your request, number 1." in here.look(here.send())


def test_whoever_changes_their_mind_moves_or_frees_the_loan(site: MakeSite) -> None:
    here = site(follow=FOLLOW, form='change-until = "1 day before Out"').watch()
    answer = here.send()
    own = answer.headers["location"]
    assert "change or withdraw it until 1 day before “Out”" in here.look(answer)
    assert 'value="2027-04-05"' in here.client.get(f"{own}/change").text
    changed = here.send(f"{own}/change", Back="2027-04-04")
    assert changed.headers["location"] == own
    assert here.events() == ["Small telescope: Joana 2027-04-02T00:00 2027-04-04T00:00"]
    here.look(here.send(Name="Paulo", Out="2027-04-04", Back="2027-04-06"))
    assert here.client.post(f"{own}/withdraw").status_code == 303
    assert here.events() == ["Small telescope: Paulo 2027-04-04T00:00 2027-04-06T00:00"]
    assert "is withdrawn" in text_of(here.client.get(own).text)
    assert here.send(f"{own}/change").status_code == 409
    assert here.client.post(f"{own}/withdraw").status_code == 409
    assert here.client.get(own[:-1] + ("a" if own[-1] != "a" else "b")).status_code == 404


def test_a_form_is_open_only_so_long_and_for_so_many(site: MakeSite) -> None:
    here = site(lend=LEND, form='limit = 1\nclosed = "The list is full."').watch()
    late = here.client.get("/lending")  # somebody who is still typing
    here.look(here.send())
    assert "The list is full. All 1 places are taken." in text_of(here.client.get("/lending").text)
    page = re.search(r'name="page" value="([^"]+)"', late.text)[1]  # type: ignore[index]
    refused = here.send(page=page, Name="Late")
    assert refused.status_code == 409
    assert "What you filled in was not kept" in refused.text
    assert len(here.events()) == 1


@pytest.mark.parametrize(
    ("form", "said"),
    [
        ("open = { until = 2026-01-31 }", "This form is closed."),
        ("open = { from = 2199-01-01 }", "It opens on 1 Jan 2199."),
    ],
)
def test_a_closed_form_says_so(site: MakeSite, form: str, said: str) -> None:
    here = site(lend=LEND, form=form).watch()
    assert said in text_of(here.client.get("/lending").text)
    assert here.send().status_code == 409
    assert here.events() == []


WRONG = [
    ({"Name": "  "}, "Please fill this in."),
    ({"Address": "joana at home"}, "is not an email address"),
    ({"Out": "soon"}, "is not a date: such as 2027-04-02"),
    ({"Out": "2027-02-30"}, "is not a date"),
    ({"Purpose": "to sell it"}, "is not among the choices"),
    ({"Name": "x" * 2001}, "too long: 2000 signs"),
    ({"Out": "2026-01-01"}, "This is too soon"),
]


def test_each_mistake_is_told_at_its_field_and_nothing_typed_is_lost(site: MakeSite) -> None:
    here = site(lend=LEND, form='notice = "2 days"').watch()
    for fields, said in WRONG:
        answer = here.send(**fields)
        assert answer.status_code == 422, fields
        assert said in text_of(answer.text), fields
        assert 'value="joana@example.org"' in answer.text or "Address" in fields
        assert 'aria-invalid="true"' in answer.text
    assert here.events() == []
    assert here.desk.run("runs", "--json").json["runs"] == []


HEADERS = {
    "content-security-policy": "default-src 'none'",
    "x-content-type-options": "nosniff",
    "x-frame-options": "DENY",
    "referrer-policy": "no-referrer",
    "cache-control": "no-store",
}


def test_the_door_is_shut_for_what_does_not_belong(site: MakeSite) -> None:
    here = site(lend=LEND, web='size = "10 kB"\nrate = { sender = "60 a minute" }').watch()
    page = here.client.get("/lending")
    for name, value in HEADERS.items():
        assert value in page.headers[name]
    assert "set-cookie" not in page.headers
    assert "<script" not in page.text
    for path in (
        "/",
        "/nothing",
        "/lending/",
        "/lending/1",
        "/lending/1-abc",
        "/../whenvoca.toml",
        "/%2e%2e/x",
        "/hooks/x/y",
    ):
        assert here.client.get(path).status_code in (404, 405), path
    assert here.client.put("/lending").status_code == 405
    assert here.client.post("/lending", content=b"x" * 11_000).status_code in (413, 415)
    assert here.client.post("/lending", json={"Name": "x"}).status_code == 415
    big = here.client.post("/lending", data={"Name": "x" * 11_000})
    assert big.status_code == 413
    for headers in ({"origin": "https://elsewhere.example.com"}, {"sec-fetch-site": "cross-site"}):
        assert here.client.post("/lending", data=JOANA, headers=headers).status_code == 403, headers
    files = here.client.post("/lending", data=JOANA, files={"Name": ("x.txt", b"x")})
    assert files.status_code == 400
    assert here.events() == []
    codes = [here.client.get("/lending").status_code for _ in range(100)]
    assert 429 in codes
    answer = next(each for _ in range(50) if (each := here.client.get("/lending")).status_code == 429)
    assert int(answer.headers["retry-after"]) >= 1


def test_fields_that_change_while_entries_wait(site: MakeSite) -> None:
    """An entry keeps what it was sent with; a workflow reads the fields that the form has now."""
    here = site(lend=LEND).watch()
    here.look(here.send())
    path = here.desk.folder / "whenvoca.toml"
    path.write_text(
        path.read_text().replace(
            '{ name = "Name", required = true }', '{ name = "Name", required = true }, { name = "Phone" }'
        )
    )
    for _ in range(20):
        time_module.sleep(0.3)
        if "Phone" in here.client.get("/lending").text:
            break
    here.look(here.send(Name="Paulo", Out="2027-05-01", Back="2027-05-02", Phone="12"))
    assert len(here.events()) == 2


def test_a_port_that_is_taken_is_told(site: MakeSite) -> None:
    here = site(lend=LEND).watch()
    other = here.desk.run("watch", "--once")
    assert other.code == 3


def test_the_door_speaks_tls(site: MakeSite) -> None:
    here = site(lend=LEND, web='certificate = "cert.pem"\nkey = "key.pem"')
    assert "the certificate cannot be used" in here.desk.run("watch", "--once").err
    subject = ["-subj", "/CN=127.0.0.1", "-addext", "subjectAltName=IP:127.0.0.1", "-days", "2", "-nodes"]
    files = ["-keyout", str(here.desk.folder / "key.pem"), "-out", str(here.desk.folder / "cert.pem")]
    command = ["openssl", "req", "-x509", "-newkey", "rsa:2048", *subject, *files]
    subprocess.run(command, check=True, capture_output=True)
    here.url = here.url.replace("http:", "https:")
    trusted = ssl.create_default_context(cafile=str(here.desk.folder / "cert.pem"))
    here.client.close()
    here.client = httpx.Client(base_url=here.url, verify=trusted, timeout=20)
    here.watch()
    assert "yours for these days" in here.look(here.send())


def field(kind: str, **more: Any) -> FormField:
    return FormField(name="x", label="x", kind=kind, **more)


READ = [
    (field("text"), ["  two\n words "], "two words"),
    (field("long text"), ["two\r\nlines"], "two\nlines"),
    (field("text"), [""], None),
    (field("number"), ["12"], 12),
    (field("number"), ["2.5"], Decimal("2.5")),
    (field("date"), ["2027-04-02"], date(2027, 4, 2)),
    (field("date"), ["2 April 2027"], date(2027, 4, 2)),
    (field("time"), ["14:30"], time(14, 30)),
    (field("moment"), ["2027-04-02T14:30"], datetime(2027, 4, 2, 14, 30, tzinfo=AZORES)),
    (field("duration"), ["1 hour 30 minutes"], Duration(seconds=5400)),
    (field("yes/no"), ["yes"], True),
    (field("yes/no"), [], False),
    (field("choice", choices=("a", "b")), ["b"], "b"),
    (field("choices", choices=("a", "b")), ["b", "a"], ["b", "a"]),
    (field("address"), ["Joana@example.org"], "Joana@example.org"),
]


@pytest.mark.parametrize(("kind", "texts", "value"), READ)
def test_what_is_typed_is_read_by_its_kind(kind: FormField, texts: list[str], value: Any) -> None:
    assert read_posted(kind, texts, AZORES) == value


FAULTS = [
    (field("number", least=2), ["1"], "at least 2"),
    (field("number", most=2), ["3"], "at most 2"),
    (field("text", most=3), ["four"], "at most 3 signs"),
    (field("date", least=date(2027, 4, 2)), ["2027-04-01"], "a day from 2 Apr 2027"),
    (field("choices", choices=("a", "b"), least=2), ["a"], "at least 2"),
    (field("choices", choices=("a", "b", "c"), most=1), ["a", "b"], "1 at most"),
    (field("yes/no", required=True), [], "tick this"),
    (field("choice", choices=("a",), required=True), [], "choose one"),
    (field("date"), ["03/04/2027"], "two ways"),
]


@pytest.mark.parametrize(("kind", "texts", "said"), FAULTS)
def test_what_is_wrong_is_told_in_words(kind: FormField, texts: list[str], said: str) -> None:
    with pytest.raises(FieldFault, match=said):
        read_posted(kind, texts, AZORES)


SETTINGS_THAT_ARE_NONE = [
    ('path = "/Lending"', "cannot be a path"),
    ('path = "/hooks/x"', "belongs to the door itself"),
    ('notice = "soon"', "is not a duration"),
    ('change-until = "whenever"', "is not understood"),
    ("open = { from = 2027-03-01, until = 2027-02-01 }", "it closes before it opens"),
    ("open = { since = 2027-03-01 }", 'open has no "since"'),
    ("limit = 0", "limit is no whole number"),
    ('free = { people = "ines" }', 'there is no setting "free"'),
]


@pytest.mark.parametrize(("line", "said"), SETTINGS_THAT_ARE_NONE)
def test_settings_of_a_form_that_are_none(site: MakeSite, line: str, said: str) -> None:
    here = site(lend=LEND, form="" if line.startswith("path") else line)
    if line.startswith("path"):
        path = here.desk.folder / "whenvoca.toml"
        path.write_text(path.read_text().replace('path = "/lending"', line))
    result = here.desk.run("check")
    assert said in f"{result.out}{result.err}".replace("\n", " ")


def test_what_is_worth_saying_of_a_form_is_said(site: MakeSite) -> None:
    here = site(lend=LEND, form="change-until = 2027-06-30", web='address = "https://larkmoor.example.org"')
    said = " ".join(f"{here.desk.run('check')}".replace("\\n", " ").split())
    assert "lending: change-until is set" in said
    assert "bookings: calls from outside are not signed" in said


def test_a_form_field_named_like_a_column_elsewhere(site: MakeSite) -> None:
    """In the `where` of a look-up a bare name is the column, and the entry's field is written in full."""
    workflow = (
        "when lending receives an entry\n\nchange row in loan-book\n  where  Name is entry.Name and Out is empty\n"
        '  Out    Out\nif it fails\n  fail "Nobody called {Name} is expected"\n'
    )
    here = site(lend=workflow)
    path = here.desk.folder / "whenvoca.toml"
    path.write_text(path.read_text().replace("create = true", 'key = "Name"\nkinds = { Out = "date" }'))
    here.desk.write("loan-book.csv", "Name,Out\nPaulo,\nJoana,\n")
    here.watch()
    assert here.send().status_code == 303
    assert here.desk.read("loan-book.csv").split() == ["Name,Out", "Paulo,", "Joana,2027-04-02"]
    refused = here.send(Name="Marta")
    assert refused.status_code == 422
    assert "Nobody called Marta is expected" in text_of(refused.text)
