"""Emails, an answer and an invitation are worked on while the program is killed: each once, each email under one id."""

from __future__ import annotations

import random
import re
import shutil

import pytest

from tests.engine.running.test_kills import count_boundaries, killed_at
from tests.mail.conftest import MAIL, MailDesk, make_email, make_itip
from tests.mail.test_invitations import EVENT

EMAILS = 4
SETTINGS = MAIL.replace('trust = "sender"\n', 'trust = "sender"\nafter = { move = "Done" }\n')
BOOKING = """
when post receives an email

read fields from email.text as wish
  Day  date

create event in outreach as visit
  title      email.subject
  start      wish.Day at 10:00
  attendees  email.sender
  invite     yes

add row to log
  What  email.subject
  Who   email.sender

answer email
  text    "On {visit.start as date}."
  attach  visit
"""
KEEPING = """
when post receives an invitation

keep invitation in outreach as meeting
answer invitation
  answer  "accepted"
"""
ANSWERS = "when outreach receives an answer\n\nadd row to log\n  What  answer.word\n  Who   answer.attendee\n"


def prepare(mail: MailDesk) -> None:
    for path in mail.folder.iterdir():
        shutil.rmtree(path) if path.is_dir() else path.unlink()
    (mail.folder / "workflows").mkdir()
    (mail.folder / "post").mkdir()
    mail.settings(base=SETTINGS).workflow(BOOKING, "booking").workflow(KEEPING, "keeping").workflow(ANSWERS, "answers")
    mail.desk.write("log.csv", "What,Who\n")
    mail.desk.write("outreach/m42.ics", EVENT)
    mail.begin()
    for number in range(EMAILS):
        data = make_email(
            f"n{number}", f"Day: {number + 1} April 2027", sender=f"school{number}@example.com", subject=f"S {number}"
        )
        mail.deliver(f"{number}.eml", data)
    body = ["UID:m42", "DTSTAMP:20270315T101000Z", "ATTENDEE;PARTSTAT=DECLINED:mailto:tomas@example.org"]
    mail.deliver("reply.eml", make_itip("REPLY", "reply", *body, sender="tomas@example.org"))
    lines = ["UID:kept", "DTSTAMP:20270315T101000Z", "DTSTART:20270501T100000Z", "SUMMARY:Council"]
    people = ["ORGANIZER:mailto:maria@example.com", "ATTENDEE;RSVP=TRUE:mailto:desk@example.org"]
    mail.deliver("invite.eml", make_itip("REQUEST", "invite", *lines, *people, sender="maria@example.com"))


def verify(mail: MailDesk) -> None:
    ics = mail.events()
    assert sorted(re.findall(r"SUMMARY:(S \d)", ics)) == [f"S {number}" for number in range(EMAILS)]
    assert ics.count("UID:kept") == 1
    assert ics.count("PARTSTAT=ACCEPTED") == 1
    assert ics.count("PARTSTAT=DECLINED") == 1
    logged = sorted(mail.read("log.csv").splitlines()[1:])
    assert logged == sorted([*(f"S {n},school{n}@example.com" for n in range(EMAILS)), "declined,tomas@example.org"])
    sent = mail.sent()
    kinds = sorted(str(each["Subject"]).partition(":")[0] for each in sent)
    assert kinds == sorted(["Accepted", *["Re", "Invitation"] * EMAILS])
    assert len({each["Message-ID"] for each in sent}) == len(sent)
    done = sorted(path.name for path in (mail.folder / "post/Done").iterdir())
    assert done == [*(f"{number}.eml" for number in range(EMAILS)), "invite.eml"]
    assert mail.run("run").err.strip() == "nothing new"
    assert {run["outcome"] for run in mail.run("runs", "--json").json["runs"]} == {"done"}


def test_killed_at_boundaries_each_email_is_worked_on_once(mail: MailDesk) -> None:
    prepare(mail)
    total = count_boundaries(mail.desk)
    assert total > 60
    verify(mail)
    for boundary in random.Random(5).sample(range(1, total + 1), 4):
        prepare(mail)
        assert killed_at(mail.desk, boundary)
        done = mail.run("run")
        assert done.code == 0, (boundary, done)
        verify(mail)


@pytest.mark.soak
def test_killed_at_every_boundary_each_email_is_worked_on_once(mail: MailDesk) -> None:
    prepare(mail)
    total = count_boundaries(mail.desk)
    for boundary in range(1, total + 1):
        prepare(mail)
        assert killed_at(mail.desk, boundary), boundary
        assert mail.run("run").code == 0, boundary
        verify(mail)
    print(f"\n{EMAILS} emails, an answer and an invitation, killed at each of {total} boundaries: all stands once")
