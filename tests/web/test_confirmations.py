"""The email that a form sends when an entry is settled: once, with what was booked, whatever goes wrong meanwhile."""

from __future__ import annotations

import email
import email.policy
import time
from collections.abc import Callable
from email.message import EmailMessage

import pytest

from tests.conftest import SETTINGS, Desk
from tests.drive.test_watch import until
from tests.web.conftest import FOLLOW, LEND, PLACES, Site

MakeSite = Callable[..., Site]
OUTBOX = '\n[places.mail-out]\nkind = "outbox"\nfolder = "mail-out"\nfrom = "desk@example.org"\n'


def with_outbox(here: Site, confirm: str = "Address", more: str = OUTBOX) -> Site:
    path = here.desk.folder / "whenvoca.toml"
    text = path.read_text().replace('path = "/lending"', f'path = "/lending"\nconfirm = "{confirm}"')
    path.write_text(text + more)
    return here


def emails(here: Site) -> list[EmailMessage]:
    found = []
    for path in sorted((here.desk.folder / "mail-out").glob("*.eml"), key=lambda each: each.stat().st_mtime_ns):
        message = email.message_from_bytes(path.read_bytes(), policy=email.policy.default)
        assert isinstance(message, EmailMessage)
        found.append(message)
    return found


def text_of_email(message: EmailMessage) -> str:
    body = message.get_body()
    assert body is not None
    return str(body.get_content())


def test_a_settled_entry_is_confirmed_once(site: MakeSite) -> None:
    here = with_outbox(site(lend=LEND)).watch()
    assert here.send(page="one").status_code == 303
    assert here.send(page="one").status_code == 303
    until(lambda: len(emails(here)) == 1)
    refused = here.send(Address="marta@example.org")  # the telescope is out
    assert refused.status_code == 422
    [confirmed] = emails(here)
    assert confirmed["To"] == "joana@example.org"
    assert confirmed["Subject"] == "Borrow the small telescope"
    said = text_of_email(confirmed)
    assert "Day: Friday 2 Apr 2027 to Monday 5 Apr 2027" in said
    assert "request number 1" in said
    assert "change or withdraw" not in said
    [attached] = confirmed.iter_attachments()
    assert "ATTENDEE:mailto:joana@example.org" in attached.get_content()
    assert here.watching is not None
    here.watching.kill()
    here.watch()
    assert here.send(Address="rui@example.org", Out="2027-05-02", Back="2027-05-03").status_code == 303
    until(lambda: len(emails(here)) == 2)
    assert emails(here)[1]["To"] == "rui@example.org"


def test_a_change_is_confirmed_and_a_withdrawal_is_not(site: MakeSite) -> None:
    here = with_outbox(site(follow=FOLLOW)).watch()
    own = here.send().headers["location"]
    until(lambda: len(emails(here)) == 1)
    assert f"{here.url}{own}" in text_of_email(emails(here)[0]).replace("=\n", "")
    changed = {"page": "p", "Name": "Joana", "Address": "joana@example.org", "Out": "2027-05-02", "Back": "2027-05-03"}
    assert here.client.post(f"{own}/change", data=changed).status_code == 303
    until(lambda: len(emails(here)) == 2)
    assert "Sunday 2 May 2027" in text_of_email(emails(here)[1])
    assert here.client.post(f"{own}/withdraw").status_code == 303
    here.send(Address="rui@example.org", Out="2027-05-10", Back="2027-05-12")
    until(lambda: len(emails(here)) == 3)
    assert emails(here)[2]["To"] == "rui@example.org"


def test_an_outbox_that_is_away_gets_it_later(site: MakeSite) -> None:
    here = with_outbox(site(lend=LEND))
    (here.desk.folder / "mail-out").write_text("in the way")
    here.watch()
    assert here.send().status_code == 303  # nobody waits for it
    time.sleep(0.5)
    (here.desk.folder / "mail-out").unlink()
    until(lambda: len(emails(here)) == 1)
    assert here.watching is not None
    lines = here.watching.stop()[1]
    assert ["a confirmation waits" in str(each.get("trouble")) for each in lines].count(True) == 1


def test_entries_from_before_are_not_confirmed(site: MakeSite) -> None:
    here = site(lend=LEND).watch()
    here.send()
    assert here.watching is not None
    here.watching.kill()
    with_outbox(here).watch()
    here.send(Address="rui@example.org", Out="2027-05-10", Back="2027-05-12")
    until(lambda: bool(emails(here)))
    assert [each["To"] for each in emails(here)] == ["rui@example.org"]


@pytest.mark.parametrize(
    ("confirm", "more", "said"),
    [
        ("Adress", OUTBOX, 'confirm = "Adress" names no field of the kind address'),
        ("Address", "", "there is no outbox that a confirmation could go by"),
        ("Address", OUTBOX + OUTBOX.replace("mail-out]", "second]"), "there are several outboxes"),
        ("Address in third", OUTBOX, 'there is no outbox "third"'),
    ],
)
def test_settings_that_cannot_be_meant(desk: Desk, confirm: str, more: str, said: str) -> None:
    desk.settings(SETTINGS, PLACES.format(port=1234, form=f'confirm = "{confirm}"', hook="", web=""), more)
    desk.workflow(LEND, "lend")
    assert said in desk.run("check").err
