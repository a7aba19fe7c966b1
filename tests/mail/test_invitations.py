"""Invitations out, answers in, invitations in (RFC 5546, RFC 6047)."""

from __future__ import annotations

import json
import shutil
from email.message import EmailMessage
from typing import Any

import pytest
from icalendar import Calendar

from tests.conftest import EXAMPLES, Desk
from tests.mail.conftest import MAIL, MailDesk, make_itip

ROWS = MAIL + '[places.visits]\nkind = "sheet"\nfile = "visits.csv"\nkey = "No"\n'
HEAD = "No,Title,Start,Venue,Who\n"
MIRROR = """
when visits gains, changes or loses a row

mirror event in outreach
  title      Title
  start      Start
  location   Venue
  attendees  Who
  invite     yes
"""


def calendar_of(email: EmailMessage) -> Any:
    """The calendar of an email as another library reads it, the part and the file alike."""
    parts = [part for part in email.walk() if part.get_content_type() == "text/calendar"]
    files = [part.get_content() for part in email.walk() if part.get_filename() == "invite.ics"]
    assert len(parts) == len(files) == 1
    assert parts[0].get_content().encode() == files[0]
    found = Calendar.from_ical(files[0])
    assert parts[0].get_param("method") == found["METHOD"]
    return found


def told(email: EmailMessage) -> tuple[str, list[str], int]:
    """Method, to whom, and SEQUENCE."""
    found = calendar_of(email)
    (event,) = found.walk("VEVENT")
    return str(found["METHOD"]), [each.addr_spec for each in email["To"].addresses], int(event["SEQUENCE"])


@pytest.fixture
def visits(mail: MailDesk) -> MailDesk:
    mail.settings(base=ROWS).workflow(MIRROR, "visits")
    mail.desk.rows("V-1,Sea School,2027-04-02 10:00,Dome,ines", name="visits.csv", head=HEAD)
    assert mail.run("run").code == 0
    return mail


def news(mail: MailDesk) -> list[tuple[str, list[str], int]]:
    """What went out since the last time."""
    found = sorted(told(each) for each in mail.sent())
    shutil.rmtree(mail.folder / "mail-out", ignore_errors=True)
    return found


CHANGES = [
    ("V-1,Sea School,2027-04-02 10:00,Dome,ines", []),
    ("V-1,Sea School,2027-04-02 11:00,Dome,ines", [("REQUEST", ["ines@example.org"], 1)]),
    ("V-1,Sea School,2027-04-02 10:00,Hall,ines", [("REQUEST", ["ines@example.org"], 1)]),
    ("V-1,River School,2027-04-02 10:00,Dome,ines", [("REQUEST", ["ines@example.org"], 1)]),
    ('V-1,Sea School,2027-04-02 10:00,Dome,"ines, tomas"', [("REQUEST", ["tomas@example.org"], 1)]),
    (
        'V-1,Sea School,2027-04-02 11:00,Dome,"ines, tomas"',
        [("REQUEST", ["ines@example.org"], 1), ("REQUEST", ["tomas@example.org"], 1)],
    ),
    (
        "V-1,Sea School,2027-04-02 10:00,Dome,tomas",
        [("CANCEL", ["ines@example.org"], 1), ("REQUEST", ["tomas@example.org"], 1)],
    ),
    ("V-1,Sea School,2027-04-02 10:00,Dome,", [("CANCEL", ["ines@example.org"], 1)]),
    ("", [("CANCEL", ["ines@example.org"], 1)]),
]


@pytest.mark.parametrize(("row", "wanted"), CHANGES, ids=[each[0] or "gone" for each in CHANGES])
def test_those_concerned_hear_of_it(visits: MailDesk, row: str, wanted: list[tuple[str, list[str], int]]) -> None:
    assert news(visits) == [("REQUEST", ["ines@example.org"], 0)]
    visits.desk.rows(*([row] if row else []), name="visits.csv", head=HEAD)
    done = visits.run("run", "--yes")
    assert done.code == 0, done
    assert news(visits) == wanted
    visits.run("run", "--yes")
    assert news(visits) == []


def test_an_invitation_can_be_read_by_people_and_programs(visits: MailDesk) -> None:
    (sent,) = visits.sent()
    assert (sent["From"], sent["Subject"]) == ("desk@example.org", "Invitation: Sea School, 2 Apr 2027 10:00")
    body = sent.get_body(("plain",))
    assert body is not None
    assert body.get_content().splitlines()[:4] == [
        "You are invited:",
        "",
        "Sea School",
        "2 Apr 2027 10:00 to 2 Apr 2027 11:00 (Atlantic/Azores)",
    ]
    found = calendar_of(sent)
    (event,) = found.walk("VEVENT")
    assert event["ORGANIZER"] == "mailto:desk@example.org"
    assert event["ATTENDEE"].params["RSVP"] == "TRUE"
    assert event["ATTENDEE"].params["PARTSTAT"] == "NEEDS-ACTION"
    assert not [name for name in event if name.startswith("X-WHENVOCA")]
    assert len(found.walk("VTIMEZONE")) == 1
    assert found.walk("VALARM") == []


def test_undo_takes_the_invitation_back(visits: MailDesk) -> None:
    news(visits)
    done = visits.run("undo", "1", "--yes")
    assert done.code == 0, done
    assert news(visits) == [("CANCEL", ["ines@example.org"], 1)]


@pytest.mark.parametrize(
    ("place", "step", "count"),
    [
        ("", "", 0),
        ("", "  invite  yes\n", 1),
        ('invite = "us"\n', "", 1),
        ('invite = "us"\n', "  invite  no\n", 0),
        ('invite = "nobody"\n', "  invite  yes\n", 0),
    ],
)
def test_who_invites_is_said_by_place_and_step(mail: MailDesk, place: str, step: str, count: int) -> None:
    mail.settings(base=MAIL.replace('folder = "outreach"\n', f'folder = "outreach"\n{place}'))
    mail.workflow(
        'when asked\n\ncreate event in outreach\n  title  "A"\n  start  2027-04-02 at 10:00\n'
        f'  attendees  "ines"\n{step}'
    )
    checked = mail.run("check")
    assert ("nobody sends invitations" in checked.out + checked.err) == ("nobody" in place)
    assert mail.run("run", "emails").code == 0
    assert len(mail.sent()) == count if count else not (mail.folder / "mail-out").exists()


def test_a_series_is_invited_to_as_a_whole_and_an_occurrence_by_itself(mail: MailDesk) -> None:
    mail.workflow(
        'when asked\n\ncreate event in outreach\n  title  "Weekly"\n  start  2027-04-05 at 10:00\n'
        '  attendees  "ines"\n  invite  yes\n  repeat  every week on monday, 4 times\n'
    )
    mail.run("run", "emails")
    (event,) = calendar_of(mail.sent()[0]).walk("VEVENT")
    assert event["RRULE"]["COUNT"] == [4]
    news(mail)
    (uid,) = [line[4:] for line in mail.events().splitlines() if line.startswith("UID:")]
    mail.workflow("when asked about an event of outreach\n\nchange event\n  start  event.start + 2 hours\n")
    assert mail.run("run", "emails", "--event", f"{uid} @ 2027-04-12T10:00Z").code == 0
    (sent,) = mail.sent()
    (event,) = calendar_of(sent).walk("VEVENT")
    assert "RRULE" not in event
    assert event["RECURRENCE-ID"].dt.isoformat().startswith("2027-04-12T10:00")
    news(mail)
    mail.workflow("when asked about an event of outreach\n\ndelete event\n")
    assert mail.run("run", "emails", "--event", f"{uid} @ 2027-04-19T10:00Z").code == 0
    assert [each[0] for each in news(mail)] == ["CANCEL"]
    assert mail.run("run", "emails", "--event", uid).code == 0
    assert [each[0] for each in [told_first(each) for each in mail.sent()]] == ["CANCEL"]


def told_first(email: EmailMessage) -> tuple[str, int]:
    found = calendar_of(email)
    return str(found["METHOD"]), len(found.walk("VEVENT"))


def test_many_invitations_need_a_yes(mail: MailDesk) -> None:
    mail.settings(base=ROWS).workflow(MIRROR, "visits")
    rows = [f"V-{n},Visit {n},2027-04-02 10:00,Dome,ines" for n in range(60)]
    mail.desk.rows(*rows, name="visits.csv", head=HEAD)
    done = mail.run("run")
    assert done.code == 4
    assert "60 emails at once, and its brake allows 50" in done.err + done.out
    assert not (mail.folder / "mail-out").exists()
    assert mail.run("run", "--yes").code == 0
    assert len(mail.sent()) == 60


def test_an_outbox_that_is_missing_is_told(mail: MailDesk) -> None:
    base = ROWS.partition("[places.mail-out]")[0] + "[places.outreach]" + ROWS.partition("[places.outreach]")[2]
    mail.settings(base=base).workflow(MIRROR, "visits")
    mail.desk.rows("V-1,Sea School,2027-04-02 10:00,Dome,ines", name="visits.csv", head=HEAD)
    checked = mail.run("check")
    assert "there is no outbox by which invitations could go" in checked.out + checked.err


# --- answers in


EVENT = """BEGIN:VCALENDAR
VERSION:2.0
PRODID:-//x//EN
BEGIN:VEVENT
UID:m42
DTSTAMP:20270301T100000Z
DTSTART:20270317T213000Z
DTEND:20270317T233000Z
SUMMARY:M 42
SEQUENCE:3
RRULE:FREQ=DAILY;COUNT=3
ORGANIZER:mailto:desk@example.org
ATTENDEE;PARTSTAT=NEEDS-ACTION;RSVP=TRUE:mailto:ines@example.org
ATTENDEE;X-OTHER=kept;CN="Tomas X";RSVP=TRUE:mailto:tomas@example.org
END:VEVENT
END:VCALENDAR
"""
ANSWERS = (
    "when outreach receives an answer\n\nadd row to log\n"
    '  What  "{answer.word} {event.title} {event.start as "d MMM"} {answer.comment}{answer.delegate}"\n'
    "  Who   answer.attendee\n"
)


@pytest.fixture
def invited(mail: MailDesk) -> MailDesk:
    mail.desk.write("outreach/m42.ics", EVENT)
    return mail.workflow(ANSWERS, "answers").begin()


def reply(
    mail: MailDesk,
    number: str,
    status: str,
    *lines: str,
    who: str = "tomas@example.org",
    sender: str = "",
    sequence: int = 3,
    stamp: str = "20270315T101000Z",
    method: str = "REPLY",
    uid: str = "m42",
    parameters: str = "",
) -> None:
    attendee = f"ATTENDEE;PARTSTAT={status}{parameters}:mailto:{who}"
    body = [f"UID:{uid}", f"DTSTAMP:{stamp}", f"SEQUENCE:{sequence}", attendee, *lines]
    mail.deliver(f"{number}.eml", make_itip(method, number, *body, sender=sender or who))


def answers(mail: MailDesk) -> list[str]:
    return [line.strip() for line in mail.read("log.csv").splitlines()[1:]]


@pytest.mark.parametrize(
    ("status", "word"), [("ACCEPTED", "accepted"), ("DECLINED", "declined"), ("TENTATIVE", "tentative")]
)
def test_an_answer_is_put_on_its_event(invited: MailDesk, status: str, word: str) -> None:
    reply(invited, "a", status, 'COMMENT:on "leave"')
    done = invited.run("run")
    assert done.code == 0, done
    ics = invited.events()
    assert f'ATTENDEE;X-OTHER=kept;CN="Tomas X";PARTSTAT={status};X-WHENVOCA-COMMENT="on \'leave\'":' in ics
    assert "ATTENDEE;PARTSTAT=NEEDS-ACTION;RSVP=TRUE:mailto:ines@example.org" in ics
    assert answers(invited) == [f'"{word} M 42 17 Mar on ""leave""",tomas@example.org']
    assert invited.run("run").err.strip() == "nothing new"
    agenda = invited.run("agenda", "--from", "2027-03-17", "--json").json
    assert agenda["events"][0]["answers"] == {"tomas@example.org": word}


def test_an_old_answer_never_overrides_a_newer_one_and_repetitions_change_nothing(invited: MailDesk) -> None:
    reply(invited, "b", "DECLINED", stamp="20270315T120000Z")
    invited.run("run")
    before = invited.events()
    reply(invited, "a", "ACCEPTED", stamp="20270315T110000Z")
    reply(invited, "c", "ACCEPTED", stamp="20270315T130000Z", sequence=2)
    reply(invited, "d", "DECLINED", stamp="20270315T120000Z")
    invited.run("run")
    assert invited.events() == before
    assert len(answers(invited)) == 1
    reply(invited, "e", "ACCEPTED", stamp="20270315T140000Z")
    invited.run("run")
    assert "PARTSTAT=ACCEPTED" in invited.events()
    assert len(answers(invited)) == 2


def test_an_answer_about_one_occurrence_changes_that_alone(invited: MailDesk) -> None:
    reply(invited, "a", "DECLINED", "RECURRENCE-ID:20270318T213000Z")
    invited.run("run")
    ics = invited.events()
    assert ics.count("BEGIN:VEVENT") == 2
    assert ics.count("PARTSTAT=DECLINED") == 1
    assert answers(invited) == ['"declined M 42 18 Mar ",tomas@example.org']


REFUSED = [
    ({"sender": "ines@example.org"}, "it answers for tomas@example.org"),
    ({"who": "stranger@example.com"}, 'stranger@example.com answers "M 42", and is not invited to it'),
    ({"uid": "unknown"}, "the event that it is about is in none of the calendars"),
]


@pytest.mark.parametrize(("how", "said"), REFUSED, ids=[each[1] for each in REFUSED])
def test_an_answer_of_somebody_else_is_told_once_and_changes_nothing(
    invited: MailDesk, how: dict[str, str], said: str
) -> None:
    before = invited.events()
    reply(invited, "a", "DECLINED", **how)  # type: ignore[arg-type]
    done = invited.run("run")
    assert said in done.out + done.err
    assert invited.events() == before
    assert answers(invited) == []
    again = invited.run("run")
    assert said not in again.out + again.err


def test_an_answer_that_nothing_proves_is_an_email(invited: MailDesk) -> None:
    invited.settings(post='trust = { results = "mail.example.org" }\n')
    invited.workflow("when post receives an email\n\nadd row to log\n  What  email.subject\n").begin()
    reply(invited, "a", "DECLINED")
    done = invited.run("run")
    assert "who is not proven to have sent it, does not count" in done.out + done.err
    assert answers(invited) == ["Reply,"]
    assert "PARTSTAT=DECLINED" not in invited.events()
    proof = "Authentication-Results: mail.example.org; dmarc=pass header.from=example.org\n"
    reply(invited, "b", "DECLINED")
    path = invited.folder / "post/b.eml"
    invited.deliver("b.eml", proof.encode() + path.read_bytes())
    invited.run("run")
    assert "PARTSTAT=DECLINED" in invited.events()


def test_another_time_is_proposed_and_somebody_else_is_sent(invited: MailDesk) -> None:
    reply(invited, "a", "TENTATIVE", "DTSTART:20270317T220000Z", "DTEND:20270317T230000Z", method="COUNTER")
    reply(invited, "b", "DELEGATED", who="ines@example.org", parameters=';DELEGATED-TO="mailto:rui@example.org"')
    invited.run("run")
    assert answers(invited) == [
        '"proposed M 42 17 Mar ",tomas@example.org',
        "delegated M 42 17 Mar rui@example.org,ines@example.org",
    ]
    assert "mailto:rui@example.org" in invited.events()
    (sent,) = invited.sent()
    assert told(sent)[:2] == ("REQUEST", ["rui@example.org"])
    reply(invited, "c", "ACCEPTED", who="rui@example.org")
    invited.run("run")
    assert "PARTSTAT=ACCEPTED:mailto:rui@example.org" in invited.events()


def test_who_comes_can_be_asked(invited: MailDesk) -> None:
    reply(invited, "a", "ACCEPTED")
    invited.run("run")
    invited.workflow(
        """
        when asked

        find events in outreach as all-of-them
        for each one in all-of-them
          add row to log
            What  "{one.accepted}|{one.declined}|{one.unanswered}"
        find attendees in outreach as people
          where  answer is "accepted"
        for each one in people
          add row to log as person
            What  "{one.event.title} {one.answer}"
            Who   one.address
        """,
        "who",
    )
    assert invited.run("run", "who").code == 0
    assert answers(invited)[1:] == ["tomas@example.org||ines@example.org,", "M 42 accepted,tomas@example.org"]


def test_declined_nights_are_told(desk: Desk) -> None:
    shutil.copytree(EXAMPLES, desk.folder, dirs_exist_ok=True)
    for path in (desk.folder / "workflows").glob("*.voca"):
        if path.stem != "declined-told":
            path.unlink()
    desk.write("calendars/domes/m42.ics", EVENT)
    assert desk.drive("run", "declined-told").code == 0
    body = ["UID:m42", "DTSTAMP:20270315T101000Z", "COMMENT:on leave"]
    for who in ("tomas@example.org", "stranger@example.com"):
        lines = [*body, f"ATTENDEE;PARTSTAT=DECLINED:mailto:{who}"]
        desk.write(f"post/{who}.eml", make_itip("REPLY", who, *lines, sender=who))
    done = desk.drive("run", "declined-told")
    said = (desk.folder / "chat/rooms/dome-floor.jsonl").read_text().splitlines()
    assert [json.loads(line)["text"] for line in said] == [
        "tomas@example.org cannot come: M 42, Wed 17 Mar 21:30. on leave"
    ]
    assert "stranger@example.com" in done.out + done.err


# --- invitations in


def invite(
    desk: Desk,
    number: str,
    uid: str,
    start: str,
    *,
    method: str = "REQUEST",
    sequence: int = 0,
    stamp: str = "20270315T101000Z",
    organizer: str = "maria@example.com",
    sender: str = "",
    more: tuple[str, ...] = (),
) -> None:
    lines = [
        *(f"UID:{uid}", f"DTSTAMP:{stamp}", f"SEQUENCE:{sequence}", f"DTSTART:{start}", "DURATION:PT1H"),
        *(f"ORGANIZER:mailto:{organizer}", f"SUMMARY:Meeting {uid}", *more),
        "ATTENDEE;CUTYPE=ROOM;PARTSTAT=NEEDS-ACTION;RSVP=TRUE:mailto:library@example.org",
    ]
    data = make_itip(method, number, *lines, sender=sender or organizer, to="library@example.org")
    desk.write(f"post/{number}.eml", data)


def replies(desk: Desk) -> list[tuple[str, str, str]]:
    """Who answered, to whom, how; of what went out since the last time."""
    from email import message_from_bytes
    from email.policy import default

    found = []
    for path in sorted((desk.folder / "outbox").glob("*")):
        email = message_from_bytes(path.read_bytes(), policy=default)
        assert isinstance(email, EmailMessage)
        (event,) = calendar_of(email).walk("VEVENT")
        found.append((str(email["From"]), str(email["To"]), str(event["ATTENDEE"].params["PARTSTAT"])))
        path.unlink()
    return found


@pytest.fixture
def library(desk: Desk) -> Desk:
    shutil.copytree(EXAMPLES, desk.folder, dirs_exist_ok=True)
    for path in (desk.folder / "workflows").glob("*.voca"):
        if path.stem != "room-answers":
            path.unlink()
    (desk.folder / "post").mkdir()
    assert desk.run("check").code == 0
    assert desk.run("run").code == 0
    return desk


def kept(desk: Desk) -> str:
    return "".join(path.read_text() for path in sorted((desk.folder / "calendars/library").glob("*.ics")))


YES = [("library@example.org", "maria@example.com", "ACCEPTED")]
NO = [("library@example.org", "maria@example.com", "DECLINED")]


def test_a_room_answers_by_its_own_calendar(library: Desk) -> None:
    invite(library, "a", "one", "20270318T110000Z")
    assert library.run("run").code == 0
    assert replies(library) == YES
    assert "STATUS:TENTATIVE" not in kept(library)
    assert "UID:one" in kept(library)
    invite(library, "b", "two", "20270318T113000Z")
    done = library.run("run")
    assert done.code == 0
    assert replies(library) == NO
    assert "UID:two" not in kept(library)
    invite(library, "c", "one", "20270318T150000Z", sequence=1, stamp="20270315T111000Z")
    library.run("run")
    assert replies(library) == YES
    assert "DTSTART:20270318T150000Z" in kept(library)
    invite(library, "d", "one", "20270318T150000Z", method="CANCEL", sequence=2, stamp="20270315T121000Z")
    library.run("run")
    assert replies(library) == []
    assert "UID:one" not in kept(library)
    invite(library, "e", "one", "20270318T110000Z")
    assert library.run("run").err.strip() == "nothing new"
    assert kept(library) == ""


def test_each_occurrence_of_a_series_is_held_against_the_calendar(library: Desk) -> None:
    invite(library, "a", "one", "20280110T110000Z")
    library.run("run")
    assert replies(library) == YES
    invite(library, "b", "weekly", "20270104T113000Z", more=("RRULE:FREQ=WEEKLY;COUNT=60",))
    library.run("run")
    assert replies(library) == NO


def test_only_the_organizer_changes_what_is_kept(library: Desk) -> None:
    invite(library, "a", "one", "20270318T110000Z")
    library.run("run")
    replies(library)
    before = kept(library)
    invite(library, "b", "one", "20270319T110000Z", sequence=5, organizer="mallory@example.com")
    invite(library, "c", "one", "20270319T110000Z", sequence=5, sender="mallory@example.com")
    invite(library, "d", "one", "20270319T110000Z", method="CANCEL", sequence=6, organizer="mallory@example.com")
    done = library.run("run")
    assert done.code == 1
    said = " ".join(done.out.split())
    assert said.count("mallory@example.com") >= 3
    assert kept(library) == before
    assert replies(library) == []


def test_an_outsider_learns_of_a_clash_only_its_times(library: Desk) -> None:
    invite(library, "a", "secret-talks", "20270318T110000Z")
    library.run("run")
    replies(library)
    text = (library.folder / "workflows/room-answers.voca").read_text()
    text = text.replace("until {first(meeting.clashes).end as time}.", "by {first(meeting.clashes).title}")
    (library.folder / "workflows/room-answers.voca").write_text(text)
    invite(library, "b", "two", "20270318T113000Z")
    library.run("run")
    (sent,) = (library.folder / "outbox").glob("*")
    assert "secret-talks" not in sent.read_text()
