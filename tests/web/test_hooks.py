"""Web calls in: each is done once, signatures are believed or refused, and what a call is about follows the calls."""

from __future__ import annotations

import base64
import hashlib
import hmac
import json
import os
import signal
import threading
import time
from collections.abc import Callable
from datetime import UTC, datetime
from typing import Any
from zoneinfo import ZoneInfo

import httpx
import pytest

from tests.drive.test_watch import Watching, until
from tests.web.conftest import LEND, VISITS, Site
from whenvoca.places.hook.reading import HookReading, is_older, read_elements
from whenvoca.values.kinds import Kind

MakeSite = Callable[..., Site]
B7 = {
    "id": "m1",
    "number": "B-7",
    "version": 1,
    "school": "Harbour School",
    "date": "2027-04-13",
    "time": "09:30",
    "pupils": 31,
}
RECEIVE = "when bookings receives a call\n\nadd row to loan-book\n  Name  School\n  Out   number\n"


def test_what_a_call_is_about_follows_the_calls(site: MakeSite) -> None:
    here = site(visits=VISITS).watch()
    first = here.call(B7)
    assert (first.status_code, first.json()["state"], first.json()["number"]) == (200, "done", 1)
    assert here.call(B7).json() == first.json()  # the same call again is answered as the first
    assert here.events("outreach") == ["Harbour School (31 pupils) 2027-04-13T09:30 2027-04-13T11:30"]
    here.call({"id": "m2", "number": "B-7", "version": 3, "date": "2027-04-14"})
    assert here.events("outreach") == ["Harbour School (31 pupils) 2027-04-14T09:30 2027-04-14T11:30"]
    here.call({"id": "m3", "number": "B-7", "version": 2, "date": "2027-04-20"})  # it was on its way for long
    assert here.events("outreach") == ["Harbour School (31 pupils) 2027-04-14T09:30 2027-04-14T11:30"]
    several = [dict(B7, number=f"B-{n}", date=f"2027-05-0{n}") for n in (8, 9)]
    assert len(here.call({"id": "m4", "bookings": several}).json()["runs"]) == 2
    assert len(here.events("outreach")) == 3
    gone = here.call({"id": "m5", "number": "B-7", "version": 4, "status": "cancelled"})
    assert gone.json()["state"] == "done"
    assert len(here.events("outreach")) == 2
    assert here.call(dict(B7, id="m6", version=5)).status_code == 200  # it is there again
    assert len(here.events("outreach")) == 3


def test_without_waiting_a_number_is_the_answer(site: MakeSite) -> None:
    here = site(receive=RECEIVE, hook="").watch()
    answers = [here.call({"school": f"School {n}"}, wait=False) for n in range(1, 4)]
    assert [(each.status_code, each.json()) for each in answers] == [(202, {"number": n}) for n in (1, 2, 3)]
    posted = here.client.post(here.hook, data={"school": "by form"}, headers={"prefer": "respond-async, wait=8"})
    assert posted.json()["state"] == "done"
    text = (here.desk.folder / "loan-book.csv").read_text()
    assert [line.split(",")[0] for line in text.splitlines()[1:]] == ["School 1", "School 2", "School 3", "by form"]


def test_a_workflow_that_says_no_answers_422(site: MakeSite) -> None:
    here = site(no='when bookings receives a call\n\nfail "There is no visit {School}"\n', hook="").watch()
    answer = here.call({"school": "V-77"})
    assert (answer.status_code, answer.json()["state"], answer.json()["reason"]) == (
        422,
        "failed",
        "There is no visit V-77",
    )


def signed(body: bytes, key: bytes, number: str = "1", sent: float | None = None) -> dict[str, str]:
    moment = str(int(time.time() if sent is None else sent))
    digest = hmac.new(key, f"{number}.{moment}.".encode() + body, hashlib.sha256).digest()
    return {
        "webhook-id": number,
        "webhook-timestamp": moment,
        "webhook-signature": f"v1,{base64.b64encode(digest).decode()}",
        "content-type": "application/json",
    }


def test_signatures_are_checked(site: MakeSite) -> None:
    os.environ["HOOK_KEY"] = "a key of the school"
    here = site(receive=RECEIVE, hook='signature = { env = "HOOK_KEY", header = "X-Signed" }').watch()
    body = b'{"school": "A"}'
    right = hmac.new(b"a key of the school", body, hashlib.sha256).hexdigest()
    json_headers = {"content-type": "application/json"}
    post = lambda given: here.client.post(here.hook, content=body, headers={**json_headers, **given}).status_code  # noqa: E731
    assert post({"x-signed": right}) == 202
    assert post({"x-signed": f"sha256={right.upper()}"}) == 202
    for wrong in ("", "0" * 64, right[:-1], "\u00e4"):
        assert post({"x-signed": wrong.encode("latin-1")}) == 401, wrong  # type: ignore[dict-item]
    assert post({}) == 401


def test_signatures_by_the_open_convention_are_checked(site: MakeSite) -> None:
    key = b"\x01\x02 of the school"
    os.environ["HOOK_KEY"] = "whsec_" + base64.b64encode(key).decode()
    here = site(receive=RECEIVE, hook='signature = { env = "HOOK_KEY" }\nonce = "id"').watch()
    body = json.dumps({"id": "a", "school": "A"}).encode()
    post = lambda headers, content=body: here.client.post(here.hook, content=content, headers=headers).status_code  # noqa: E731
    assert post(signed(body, key)) == 202
    assert post(signed(body, key)) == 202  # repeated: done once
    assert post(signed(body, key, sent=time.time() - 400)) == 401
    assert post(signed(body, key, sent=time.time() + 400)) == 401
    assert post(signed(body, b"another")) == 401
    assert post(signed(body, key), b'{"id": "b", "school": "Forged"}') == 401
    for missing in ("webhook-id", "webhook-timestamp", "webhook-signature"):
        assert post({name: value for name, value in signed(body, key).items() if name != missing}) == 401
    assert post({**signed(body, key), "webhook-timestamp": "x"}) == 401
    book = here.desk.folder / "loan-book.csv"
    until(book.exists)
    assert "Forged" not in book.read_text()


JSON = {"content-type": "application/json"}
HOSTILE: list[tuple[bytes, dict[str, str], int]] = [
    (b"", JSON, 400),
    (b"{", JSON, 400),
    (b"nonsense", JSON, 400),
    (b'"text"', JSON, 422),
    (b"[]", JSON, 422),
    (b"null", JSON, 422),
    (b"12", JSON, 422),
    (b'{"id": 1, "id": 2}', JSON, 400),
    (b'{"id": NaN}', JSON, 400),
    (b'{"id": Infinity}', JSON, 400),
    (b'{"id": 1e999}', JSON, 400),
    (b"[" * 100_000, JSON, 400),
    (b'{"a":' * 60 + b"1" + b"}" * 60, JSON, 400),
    (b"\xff\xfe", JSON, 400),
    (b'{"id": "m"}', JSON, 422),
    (b'{"id": {"x": 1}, "number": "B"}', JSON, 422),
    (b'{"id": "m", "number": ""}', JSON, 422),
    (b'{"id": "m", "number": null}', JSON, 422),
    (b'{"id": "m", "number": "B", "date": "2027-02-30"}', JSON, 422),
    (b'{"id": "m", "number": "B", "date": {"day": 1}}', JSON, 422),
    (b'{"id": "m", "number": "B", "pupils": "many"}', JSON, 422),
    (b'{"id": "m", "number": "B", "pupils": true}', JSON, 422),
    (b'{"id": "m", "number": "B", "version": [1]}', JSON, 422),
    (b'{"id": "m", "bookings": "none"}', JSON, 422),
    (b'{"id": "m", "bookings": [1]}', JSON, 422),
    (b'{"id": "m", "bookings": [' + b",".join([b"{}"] * 600) + b"]}", JSON, 422),
    (b'{"id": "m"}', {"content-type": "text/plain"}, 415),
    (b'{"id": "m"}', {"content-type": "application/xml"}, 415),
    (b'{"id": "m"}', {}, 415),
    (b"id=1&id=2", {"content-type": "application/x-www-form-urlencoded"}, 400),
    (b"%zz", {"content-type": "application/x-www-form-urlencoded"}, 400),
    (b"x" * 300_000, JSON, 413),
]


def test_hostile_calls_are_refused_and_leave_nothing(site: MakeSite) -> None:
    here = site(visits=VISITS, web='rate = { sender = "1000 a minute" }').watch()
    path = here.hook
    for body, headers, status in HOSTILE:
        answer = here.client.post(path, content=body, headers=headers)
        assert answer.status_code == status, (body[:60], answer.text)
        assert answer.json()["fault"], body[:60]
    for method in ("GET", "PUT", "DELETE", "HEAD", "PATCH"):
        assert here.client.request(method, path).status_code == 405, method
    assert here.client.post(path[:-1], json=B7).status_code == 404
    assert here.client.post(path.upper(), json=B7).status_code == 404
    assert here.events("outreach") == []
    odd = {
        "id": "x",
        "number": "B-\u202e1",
        "school": '<script>alert("x")</script>\x1b[31m\ud800',
        "date": "2027-04-13",
        "time": "09:30",
    }
    kept = here.client.post(path, content=json.dumps(odd), headers={**JSON, "prefer": "wait=8"})
    assert kept.json()["state"] == "done"
    assert here.watching is not None
    told = " ".join(str(each) for each in here.desk.run("runs").out.splitlines())
    assert "\x1b" not in told


def test_places_tells_what_came_in_and_what_was_refused(site: MakeSite) -> None:
    here = site(visits=VISITS).watch()
    assert "no call has come in yet" in here.desk.run("places", "bookings").err
    here.call(B7)
    path = here.hook
    here.client.post(path, content=b"{", headers=JSON)
    told = here.desk.run("places", "bookings", "--json").json
    assert told["address"] == f"{here.url}{path}"
    assert told["last"]["values"] == {"School": "Harbour School", "Day": "2027-04-13", "Time": "09:30", "Pupils": "31"}
    assert [each["status"] for each in told["refused"]] == [400]
    assert told["fields"][1] == {"name": "Day", "kind": "date", "path": "date"}
    said = here.desk.run("places", "bookings").err
    assert "refused" in said
    assert "Harbour School" in said
    renewed = here.desk.run("places", "bookings", "--new-address", "--json").json["address"].removeprefix(here.url)
    assert renewed != path
    assert here.client.post(path, json=B7).status_code == 404  # the old address leads nowhere, at once
    assert here.client.post(renewed, json=B7).status_code == 202
    assert here.desk.run("places", "lending", "--new-address").code == 2
    assert here.desk.run("places", "lendin").code == 2
    assert here.desk.run("places", "loans", "--json").json["places"][0]["kind"] == "calendar"


ZONE = ZoneInfo("Atlantic/Azores")
READING = HookReading(fields={"Day": "visit.day", "First": "names.0", "Names": "names"}, kinds={"Day": Kind.DATE})


def test_values_are_found_by_their_paths() -> None:
    [one] = read_elements(READING, {"visit": {"day": "2027-04-13"}, "names": ["a", "b"]}, datetime.now(UTC), ZONE)
    assert {name: str(value) for name, value in one.values.items()} == {
        "Day": "2027-04-13",
        "First": "a",
        "Names": "['a', 'b']",
    }
    [bare] = read_elements(READING, {}, datetime.now(UTC), ZONE)
    assert bare.values == {}  # a missing path keeps what was there
    [cleared] = read_elements(READING, {"visit": {"day": None}}, datetime.now(UTC), ZONE)
    assert cleared.values == {"Day": None}  # null clears it


@pytest.mark.parametrize(
    ("told", "known", "older"),
    [
        (1, 2, True),
        (2, 2, True),
        (3, 2, False),
        (None, 2, False),
        (2, None, False),
        ("2027-03-01T10:00:00+00:00", "2027-03-01T09:00:00-02:00", True),
        ("2027-03-01T12:00:00Z", "2027-03-01T09:00:00-02:00", False),
        ("b", "a", False),
    ],
)
def test_versions_and_times_are_compared(told: Any, known: Any, older: bool) -> None:
    assert is_older(told, known) is older


def storm(here: Site, kills: int) -> None:
    """Calls while `watch` is killed again and again: whatever was answered is done, once."""
    path, stop = here.hook, threading.Event()
    answered: list[int] = []
    sent = [0]

    def post() -> None:
        with httpx.Client(base_url=here.url, timeout=5) as client:
            while not stop.is_set():
                sent[0] += 1
                try:
                    answer = client.post(path, json={"id": f"m{sent[0]}", "school": f"S{sent[0]}"})
                except httpx.TransportError:
                    time.sleep(0.05)
                    continue
                if answer.status_code == 202:
                    answered.append(answer.json()["number"])
                time.sleep(0.01)

    poster = threading.Thread(target=post)
    poster.start()
    try:
        for _ in range(kills):
            before = len(answered)
            until(lambda before=before: len(answered) > before + 3)
            assert here.watching is not None
            os.kill(here.watching.process.pid, signal.SIGKILL)
            here.watching.kill()
            here.watching = Watching(here.desk).ready()
    finally:
        stop.set()
        poster.join()
    assert here.watching is not None
    here.watching.stop()
    assert here.desk.run("run").code == 0
    rows = [line.split(",")[1] for line in (here.desk.folder / "loan-book.csv").read_text().splitlines()[1:]]
    assert len(rows) == len(set(rows))
    assert {str(number) for number in answered} <= set(rows)
    assert len(answered) == len(set(answered))


def test_what_was_answered_is_done_once_over_kills(site: MakeSite) -> None:
    storm(
        site(
            receive=RECEIVE, hook='once = "id"', web='rate = { sender = "100000 a minute", total = "100000 a minute" }'
        ).watch(),
        4,
    )


@pytest.mark.soak
def test_what_was_answered_is_done_once_over_fifty_kills(site: MakeSite) -> None:
    storm(
        site(
            receive=RECEIVE, hook='once = "id"', web='rate = { sender = "100000 a minute", total = "100000 a minute" }'
        ).watch(),
        50,
    )


def test_settings_of_a_hook_that_are_none(site: MakeSite) -> None:
    for line, said in (
        ("gone = 'status is \"over\"'", "gone is given without about"),
        ('about = "number"\ngone = "is is"', "gone: "),
        ('dates = "any"', "is not an order"),
        ('signature = { env = "X", form = "octal" }', 'form is never "octal"'),
        ('signature = "the word itself"', "signature"),
    ):
        here = site(
            lend=LEND.replace("when lending receives an entry", "when bookings receives a call")
            .replace("Out", "Day")
            .replace("Back", "Day")
            .replace("{Name}", "{School}")
            .replace("Name  Name", "Name  School"),
            hook=line,
        )
        result = here.desk.run("check")
        assert said in f"{result.out}{result.err}".replace("\n", " "), (line, result)
