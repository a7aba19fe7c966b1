"""Pages by personal links: the desk, where people ask and are answered, and the board of the person in charge."""

from __future__ import annotations

import json
import threading
from collections.abc import Callable, Iterator
from datetime import date, datetime, timedelta
from typing import Any

import httpx
import pytest

from tests.conftest import Desk
from tests.drive.test_watch import until
from tests.servers import free_port
from tests.web.conftest import Site, text_of

SETTINGS = """
[workspace]
name = "Larkmoor"
root = "5b0c6a54-6f0e-4f0b-9a43-2f6a3f0c1d7e"
zone = "Atlantic/Azores"
[people.ines]
mail = "ines@example.org"
[people.rui]
mail = "rui@example.org"
chat = "rui"
zone = "Europe/Lisbon"
[web]
listen = "127.0.0.1:{port}"
board = "/board"
[places.desk]
kind = "chat"
page = "/desk"
{chat}
[places.outreach]
kind = "calendar"
folder = "outreach"
[places.requests]
kind = "sheet"
file = "requests.csv"
key = "No"
"""
ANSWER = "when desk hears a message\n\nanswer message in outreach\n"
ROWS = (
    "when requests gains a row\n\ncreate event in outreach\n  title  Title\n  start  Day at 10:00\n"
    'if it fails\n  fail "not like this: {reason}"\n'
)
MakeSite = Callable[..., Site]


@pytest.fixture
def pages(desk: Desk) -> Iterator[MakeSite]:
    made: list[Site] = []

    def make(chat: str = "") -> Site:
        port = free_port()
        desk.settings(SETTINGS.format(port=port, chat=chat))
        desk.workflow(ANSWER, "answer").workflow(ROWS, "rows")
        desk.rows(name="requests.csv", head="No,Title,Day\n")
        made.append(Site(desk, port).watch())
        return made[-1]

    yield make
    for each in made:
        each.close()


def link(here: Site, *arguments: str) -> str:
    told: dict[str, Any] = here.desk.run("places", *arguments, "--json").json
    return str(told["link"]).removeprefix(here.url)


def ask(here: Site, path: str, text: str, page: str = "", **headers: str) -> httpx.Response:
    return here.client.post(path, data={"text": text, "page": page or text}, headers=headers)


TOMORROW = date.today() + timedelta(days=1)


@pytest.mark.parametrize("chat", ["", 'folder = "chat"'])
def test_what_is_asked_on_the_page_is_done_and_answered_there(pages: MakeSite, chat: str) -> None:
    here = pages(chat)
    path = link(here, "desk", "--link", "ines")
    assert "What is it, ines?" in text_of(here.client.get(path).text)
    answer = ask(here, path, f"star party <b>tomorrow</b> at 21:00 on {TOMORROW:%Y-%m-%d}", "one")
    assert answer.status_code == 303
    shown = here.client.get(path)
    assert "star party" in text_of(shown.text)
    assert "&lt;b&gt;" in shown.text
    assert shown.text.count('class="ours"') == 1
    assert ask(here, path, "once more", "one").status_code == 303  # the same page twice is one message
    assert "once more" not in here.client.get(path).text
    other = link(here, "desk", "--link", "rui")
    assert "star party" not in here.client.get(other).text
    ask(here, other, f"dome tour {TOMORROW:%Y-%m-%d} at 15:00")
    assert "15:00" in text_of(here.client.get(other).text)  # told in his own zone
    found = here.desk.run("agenda", "outreach", "--from", f"{TOMORROW}", "--json").json["events"]
    assert [each["start"][11:16] for each in found if "dome tour" in each["title"].lower()] == ["14:00"]


def test_answers_come_live(pages: MakeSite) -> None:
    here = pages()
    path = link(here, "desk", "--link", "ines")
    told: list[dict[str, Any]] = []

    def listen() -> None:
        with httpx.stream("GET", f"{here.url}{path}/live?after=0", timeout=20) as stream:
            assert stream.headers["content-type"].startswith("text/event-stream")
            for line in stream.iter_lines():
                if line.startswith("data: "):
                    told.append(json.loads(line[6:]))
                if len(told) == 2:
                    return

    listening = threading.Thread(target=listen)
    listening.start()
    assert ask(here, path, "anything tomorrow?", accept="application/json").status_code == 204
    listening.join(20)
    assert [each["is_ours"] for each in told] == [False, True]
    assert told[0]["text"] == "anything tomorrow?"


def test_open_streams_do_not_keep_watch_from_ending(pages: MakeSite) -> None:
    here = pages()
    path = link(here, "desk", "--link", "ines")
    with httpx.stream("GET", f"{here.url}{path}/live", timeout=20) as stream:
        assert stream.status_code == 200
        before = datetime.now()
        assert here.watching is not None
        assert here.watching.stop()[0] == 0
        assert datetime.now() - before < timedelta(seconds=10)


def test_links_are_personal_and_end(pages: MakeSite) -> None:
    here = pages()
    path = link(here, "desk", "--link", "ines")
    assert path == link(here, "desk", "--link", "ines@example.org")
    assert path != link(here, "desk", "--link", "rui")
    fresh = link(here, "desk", "--new-address", "ines")
    for dead in (path, "/desk", "/desk/", f"{fresh}x", f"{fresh[:-1]}", f"{fresh}/other", f"/board/{fresh[6:]}"):
        answer = here.client.get(dead)
        assert answer.status_code == 404, dead
    assert here.client.get(fresh).status_code == 200
    assert here.client.get(fresh).headers["referrer-policy"] == "no-referrer"
    assert "set-cookie" not in here.client.get(fresh).headers
    policy = here.client.get(fresh).headers["content-security-policy"]
    assert "script-src 'self'" in policy
    assert "unsafe" not in policy
    assert ask(here, fresh, "hello", **{"sec-fetch-site": "cross-site"}).status_code == 403
    assert ask(here, fresh, "x" * 5000).status_code == 413
    refused = here.desk.run("places", "outreach", "--link", "ines")
    assert "outreach has no page" in refused.err
    assert 'nobody called "nobody"' in here.desk.run("places", "desk", "--link", "nobody").err


def test_the_board_tells_what_ran_and_what_failed_and_tries_again(pages: MakeSite) -> None:
    here = pages()
    board = link(here, "--board", "ines")
    desk = here.desk
    desk.rows(f"1,Comets,{TOMORROW}", "2,<i>Tides</i>,31.02.2027", name="requests.csv", head="No,Title,Day\n")
    until(lambda: len(desk.run("runs", "--json").json["runs"]) >= 2, 30)
    page = here.client.get(board)
    said = text_of(page.text)
    assert "Try again" in said
    assert "Comets" in said.partition("Ran today")[0]  # what starts next
    assert "not like this" in said
    assert "<i>" not in page.text
    (desk.folder / "outreach").mkdir(exist_ok=True)
    number = page.text.partition('name="run" value="')[2].partition('"')[0]
    desk.rows(f"1,Comets,{TOMORROW}", f"2,Tides,{TOMORROW}", name="requests.csv", head="No,Title,Day\n")
    assert here.client.post(f"{board}/retry", data={"run": number}).status_code == 303
    until(lambda: "Nothing that waits for you." in text_of(here.client.get(board).text))


def test_the_board_is_closed_to_others(pages: MakeSite) -> None:
    here = pages()
    board = link(here, "--board", "ines")
    for path in ("/board", "/board/", "/board/x", f"{board}x", f"{board}/other"):
        assert here.client.get(path).status_code == 404, path
    assert here.client.get(f"{board}/retry").status_code == 405
    assert here.client.post(board).status_code == 405
    assert here.client.post(f"{board}/retry", data={"run": "1; drop"}).status_code == 422
    refused = here.client.post(f"{board}/retry", data={"run": "1"}, headers={"sec-fetch-site": "cross-site"})
    assert refused.status_code == 403
    assert link(here, "--board", "ines", "--new-address") != board
    assert here.client.get(board).status_code == 404


def test_paths_that_two_places_share_are_told(desk: Desk) -> None:
    more = '[places.lending]\nkind = "form"\npath = "/desk"\nfields = [ { name = "Name" } ]\n'
    desk.settings(SETTINGS.format(port=1234, chat=""), more).workflow(ANSWER, "answer")
    desk.rows(name="requests.csv", head="No,Title,Day\n")
    result = desk.run("check")
    assert "has the same path, /desk" in result.out + result.err
