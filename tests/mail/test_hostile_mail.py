"""A hundred and fifty emails that mean harm: each is told once at most, the rest goes on, and memory stays bounded."""

from __future__ import annotations

import base64
import gzip
import random
import resource
from collections.abc import Callable, Iterator
from email.message import EmailMessage

import pytest

from tests.mail.conftest import MAIL, MailDesk, make_email, make_itip
from tests.mail.test_invitations import EVENT

MOST_MEMORY = 250_000  # kilobytes
HEAD = b"From: a@example.com\nTo: visits@example.org\nMessage-ID: <%s@example.com>\n"
HEAD += b"Date: Mon, 15 Mar 2027 09:00:00 -0100\n"
WORKFLOWS = {
    "emails": "when post receives an email\n\nadd row to log\n  What  email.subject\n  Who   email.sender\n"
    'for each one in email.attachments\n  save one in "received"\n'
    'answer email\n  text  "You wrote: {email.new-text}"\n',
    "keeping": "when post receives an invitation\n\nkeep invitation in outreach as meeting\n"
    'answer invitation\n  answer  "accepted"\n',
    "answers": "when outreach receives an answer\n\nadd row to log as answered\n  What  answer.word\n",
}


def head(name: str) -> bytes:
    return HEAD % name.encode()


def parts() -> Iterator[tuple[str, bytes]]:
    """MIME that is too much, too deep, or broken."""
    many = b"".join(b"--b\nContent-Type: text/plain\n\nx\n" for _ in range(10_000))
    yield "ten thousand parts", head("p1") + b'Content-Type: multipart/mixed; boundary="b"\n\n' + many + b"--b--\n"
    deep, end = b"", b""
    for level in range(500):
        deep += b'Content-Type: multipart/mixed; boundary="n%d"\n\n--n%d\n' % (level, level)
        end = b"\n--n%d--" % level + end
    yield "nested five hundred times", head("p2") + deep + b"Content-Type: text/plain\n\nx" + end
    big = base64.encodebytes(b"\0" * 2_000_000)
    lines = b'Content-Type: application/zip; name="a.zip"\nContent-Transfer-Encoding: base64\n\n'
    yield "larger than the limit", head("p3") + lines + big * 5
    yield "a packed bomb", head("p4") + lines + base64.encodebytes(gzip.compress(b"\0" * 20_000_000))
    for number, boundary in enumerate(("", '"', "b" * 500, "b\tb", "--")):
        kind = f"Content-Type: multipart/mixed; boundary={boundary}\n\n--x\n\nx\n".encode()
        yield f"boundary {boundary[:8]!r}", head(f"b{number}") + kind
    for number, encoding in enumerate(("base64", "quoted-printable", "x-uuencode", "7bit; x", "\x00")):
        broken = f"Content-Transfer-Encoding: {encoding}\n\n=ZZ=\n====AAA!!!\x00\n".encode()
        yield f"encoded {encoding!r}", head(f"e{number}") + broken
    yield "no end of a header", head("p5") + b"Subject: " + b"x" * 300_000 + b"\n\nx"
    yield "a thousand headers", head("p6") + b"".join(b"X-%d: y\n" % n for n in range(5_000)) + b"\nx"
    yield "nothing", b""
    yield "no head", b"\n\nonly text"
    yield "random bytes", random.Random(3).randbytes(20_000)
    yield "an email in itself", head("p7") + b"Content-Type: message/rfc822\n\n" + head("p8") * 300 + b"\nx"


def charsets() -> Iterator[tuple[str, bytes]]:
    for number, charset in enumerate(
        (
            "utf-7",
            "utf-16",
            "utf-99",
            "idna",
            "rot13",
            "hex",
            "zlib",
            "unicode_escape",
            "x" * 400,
            "",
            "ISO-2022-JP",
            "big5",
        )
    ):
        kind = f"Content-Type: text/plain; charset={charset}\n\n".encode()
        yield f"charset {charset[:12]!r}", head(f"c{number}") + kind + b"\xff\xfe+ADw-script+AD4-\x1b$B\x00\n"
    for number, word in enumerate(
        (
            "=?utf-8?b?////?=",
            "=?utf-99?q?=ff?=",
            "=?utf-8?q?" + "=41" * 5000 + "?=",
            "=?zlib?b?eJwrSAQA?=",
            "=?utf-8?b?=?=",
        )
    ):
        yield f"subject {number}", head(f"w{number}") + f"Subject: {word}\n\nx".encode()


def forged() -> Iterator[tuple[str, bytes]]:
    """Headers that would add others, senders who are none, and tricks with directions."""
    for number, sender in enumerate(
        (
            "a@example.com\r\n\tBcc: all@example.org",
            "a@example.com, b@example.com",
            "<>",
            "",
            '"desk@example.org" <evil@example.com>',
            "evil@example.com <desk@example.org",
            "a" * 5000 + "@example.com",
            "a@" + "b." * 3000 + "com",
            "\u202emoc.elpmaxe@a",
            "a\x00b@example.com",
            "=?utf-8?q?a=0d=0aBcc:_x=40example.org?= <a@example.com>",
            "undisclosed:;",
            "a@[127.0.0.1]",
            "ines",
        )
    ):
        data = head(f"f{number}").replace(b"From: a@example.com", f"From: {sender}".encode())
        yield f"from {sender[:20]!r}", data + b"Subject: forged\n\nx"
    for number, number_given in enumerate(
        ("", "<>", "<a b@c>", "<" + "x" * 9000 + "@y>", "<a@b>\r\n <c@d>", "<../../x@y>")
    ):
        data = head("m").replace(b"<m@example.com>", number_given.encode())
        yield f"number {number}", data + f"Subject: numbered {number}\n\nx".encode()
    for number, value in enumerate(("never", "Mon, 99 Zzz 0000 99:99:99", "Mon, 15 Mar 99999 09:00:00 +9999", "")):
        data = head(f"d{number}").replace(b"Mon, 15 Mar 2027 09:00:00 -0100", value.encode())
        yield f"date {value!r}", data + b"\nx"


def attached() -> Iterator[tuple[str, bytes]]:
    for number, name in enumerate(
        (
            "../../../etc/passwd",
            "C:\\windows\\x.exe",
            "/abs/olute.txt",
            ".whenvoca",
            "..",
            "",
            "a\x00b.txt",
            "a\nb.txt",
            "\u202etxt.exe",
            "x" * 5000,
            "con.ics",
            "\u2024\u2024/x",
        )
    ):
        email = EmailMessage()
        email["From"], email["To"], email["Message-ID"] = (
            "a@example.com",
            "visits@example.org",
            f"<a{number}@example.com>",
        )
        email.set_content("see it")
        email.add_attachment(b"content %d" % number, maintype="application", subtype="octet-stream", filename="SAFE")
        written = name.encode().replace(b"\n", b"=0A").replace(b'"', b"")
        yield f"attached {name[:14]!r}", email.as_bytes().replace(b'"SAFE"', b'"' + written + b'"')


def pages() -> Iterator[tuple[str, bytes]]:
    for number, html in enumerate(
        (
            "<script>alert(1)</script><img src=http://127.0.0.1:1/x>Hello",
            "<div>" * 20_000 + "x",
            "<table>" + "<tr><td>x" * 20_000,
            "<style>*{}</style><iframe src=file:///etc/passwd></iframe>",
            "<!DOCTYPE x [<!ENTITY a 'aaaaaaaaaa'><!ENTITY b '&a;&a;&a;&a;'>]><p>&b;</p>",
            "<p" + " a=b" * 50_000 + ">x",
            "\x00<p>x",
            "<link rel=stylesheet href=http://127.0.0.1:1/a.css><base href=http://127.0.0.1:1/>",
            "<blockquote>" * 3000 + "x",
            "<svg onload=alert(1)><foreignObject>x",
        )
    ):
        kind = b"Content-Type: text/html; charset=utf-8\n\n"
        yield f"page {number}", head(f"h{number}") + b"Subject: page\n" + kind + html.encode()


def itip(name: str, method: str, *lines: str, sender: str = "tomas@example.org") -> tuple[str, bytes]:
    return f"{method.lower()} {name}", make_itip(method, f"i-{name}".replace(" ", "-"), *lines, sender=sender)


def calendars() -> Iterator[tuple[str, bytes]]:
    event = ("UID:bad", "DTSTAMP:20270315T101000Z", "ORGANIZER:mailto:tomas@example.org")
    room = "ATTENDEE:mailto:desk@example.org"
    start = "DTSTART:20270318T110000Z"
    yield itip("every second", "REQUEST", *event, start, room, "RRULE:FREQ=SECONDLY")
    yield itip("a far rule", "REQUEST", *event, start, room, "RRULE:FREQ=YEARLY;INTERVAL=9999999;COUNT=99999999")
    yield itip("a broken rule", "REQUEST", *event, start, room, "RRULE:FREQ=NEVER;BYDAY=XX")
    yield itip("no start", "REQUEST", *event, room)
    yield itip("year zero", "REQUEST", *event, "DTSTART:00000101T000000Z", room)
    yield itip("end before start", "REQUEST", *event, start, "DTEND:20200101T000000Z", room)
    yield itip("no uid", "REQUEST", "DTSTAMP:20270315T101000Z", start, room)
    yield itip("no organizer", "REQUEST", "UID:x1", "DTSTAMP:20270315T101000Z", start, room)
    yield itip("our uid", "REQUEST", "UID:m42", *event[1:], start, room)
    yield itip("our uid", "CANCEL", "UID:m42", *event[1:], start, room)
    yield itip(
        "many exdates", "REQUEST", *event, start, room, *(f"EXDATE:2027{n % 12 + 1:02}01T000000Z" for n in range(5_000))
    )
    yield itip("long lines", "REQUEST", *event, start, room, "DESCRIPTION:" + "x" * 190_000)
    yield itip("too long", "REQUEST", *event, start, room, "DESCRIPTION:" + "x" * 500_000)
    yield itip(
        "many people", "REQUEST", *event, start, room, *(f"ATTENDEE:mailto:a{n}@example.com" for n in range(2_000))
    )
    yield itip("sender is another", "REQUEST", *event, start, room, sender="evil@example.com")
    yield itip("a line in a title", "REQUEST", *event, start, room, "SUMMARY:a\\nATTENDEE:mailto:x@example.com")
    yield itip("a huge sequence", "REQUEST", *event, start, room, "SEQUENCE:99999999999999999999")
    yield itip("strange zone", "REQUEST", *event, "DTSTART;TZID=../../etc:20270318T110000", room)
    stamp = "DTSTAMP:20270315T101000Z"
    yield itip(
        "a stranger",
        "REPLY",
        "UID:m42",
        stamp,
        "ATTENDEE;PARTSTAT=ACCEPTED:mailto:x@example.com",
        sender="x@example.com",
    )
    yield itip("for another", "REPLY", "UID:m42", stamp, "ATTENDEE;PARTSTAT=DECLINED:mailto:ines@example.org")
    yield itip("no uid", "REPLY", stamp, "ATTENDEE;PARTSTAT=DECLINED:mailto:tomas@example.org")
    yield itip("no attendee", "REPLY", "UID:m42", stamp)
    yield itip("a strange word", "REPLY", "UID:m42", stamp, "ATTENDEE;PARTSTAT=MAYBE:mailto:tomas@example.org")
    yield itip("no moment", "REPLY", "UID:m42", "DTSTAMP:never", "ATTENDEE;PARTSTAT=DECLINED:mailto:tomas@example.org")
    yield itip(
        "an occurrence of none",
        "REPLY",
        "UID:m42",
        stamp,
        "RECURRENCE-ID:19990101T000000Z",
        "ATTENDEE;PARTSTAT=DECLINED:mailto:tomas@example.org",
    )
    yield itip(
        "a line in a comment",
        "REPLY",
        "UID:nope",
        stamp,
        "COMMENT:a\\nX:y",
        "ATTENDEE;PARTSTAT=DECLINED:mailto:tomas@example.org",
    )
    yield itip("no times", "COUNTER", "UID:nope", stamp, "ATTENDEE;PARTSTAT=DECLINED:mailto:tomas@example.org")
    for number, body in enumerate(
        (
            b"BEGIN:VCALENDAR\nMETHOD:REQUEST\n",
            b"METHOD:REPLY\n",
            b"BEGIN:VCALENDAR\nMETHOD:REPLY\nBEGIN:VEVENT\nEND:VCALENDAR\n",
            b"\xff\xfe\x00METHOD:REQUEST",
            b"BEGIN:VCALENDAR\nMETHOD:REQUEST\n" + b"BEGIN:VEVENT\n" * 20_000,
            b"BEGIN:VCALENDAR\nMETHOD:REQUEST\n"
            + b"BEGIN:VTIMEZONE\nTZID:x\nEND:VTIMEZONE\n" * 3_000
            + b"END:VCALENDAR\n",
            b"BEGIN:VCALENDAR\nMETHOD:PUBLISH\nEND:VCALENDAR\n",
            b"BEGIN:VCALENDAR\nMETHOD:REFRESH\nEND:VCALENDAR\n",
        )
    ):
        yield f"calendar {number}", head(f"k{number}") + b"Content-Type: text/calendar; method=REQUEST\n\n" + body


def texts() -> Iterator[tuple[str, bytes]]:
    for number, text in enumerate(
        (
            "x: " * 50_000,
            ">" * 100_000,
            "\n" * 100_000,
            "On " + "a" * 100_000 + " wrote:",
            "Day: " + "9" * 10_000,
            "\u202e\u2066\u200b" * 5_000,
            "tomorrow " * 3_000,
            "at 10 " * 3_000,
            "-- \n" * 20_000,
            "{email.sender} {now} \\{",
        )
    ):
        yield f"text {number}", make_email(f"t{number}", "see below").replace(b"see below", text.encode())
    for number in range(25):
        broken = bytearray(make_email(f"r{number}", "Hello", attach=("a.ics", "text/calendar", EVENT.encode())))
        chance = random.Random(number)
        for _ in range(60):
            broken[chance.randrange(len(broken))] = chance.randrange(256)
        yield f"spoilt {number}", bytes(broken)


SOURCES: tuple[Callable[[], Iterator[tuple[str, bytes]]], ...] = (
    parts,
    charsets,
    forged,
    attached,
    pages,
    calendars,
    texts,
)


def hostile() -> list[tuple[str, bytes]]:
    return [each for source in SOURCES for each in source()]


def test_hostile_emails_are_told_once_and_the_rest_goes_on(mail: MailDesk) -> None:
    emails = hostile()
    assert len(emails) >= 150
    mail.settings(base=MAIL.replace('trust = "sender"\n', 'trust = "sender"\nlimit = "5 MB"\n'))
    for name, text in WORKFLOWS.items():
        mail.workflow(text, name)
    mail.desk.write("outreach/m42.ics", EVENT)
    mail.begin()
    for number, (_, data) in enumerate(emails):
        mail.deliver(f"{number:03}.eml", data)
    mail.deliver("good.eml", make_email("good", "Hello", subject="A good one", sender="good@example.com"))
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    done = mail.run("run", "--yes")
    grown = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before  # kilobytes
    assert done.code in (0, 1), done.err
    assert grown < MOST_MEMORY
    assert "unforeseen" not in done.out + done.err
    log = mail.read("log.csv")
    assert "A good one,good@example.com" in log
    assert "accepted" not in log
    assert (mail.folder / "outreach/m42.ics").read_text() == EVENT
    kept = [path.resolve() for path in mail.folder.rglob("*") if path.is_file()]
    assert all(path.is_relative_to(mail.folder.resolve()) for path in kept)
    assert {path.parent.name for path in (mail.folder / "received").rglob("*")} <= {"received"}
    for sent in mail.sent():
        assert not sent["Bcc"]
        assert len(sent["To"].addresses) == 1
    again = mail.run("run", "--yes")
    assert again.err.startswith("nothing new"), again


def test_two_automatic_answerers_do_not_go_round(mail: MailDesk) -> None:
    mail.workflow('when post receives an email\n\nanswer email\n  text  "Thank you."\n').begin()
    mail.deliver("0.eml", make_email("start", sender="robot@example.com"))
    for turn in range(30):
        mail.run("run")
        sent = mail.sent()
        if len(sent) <= turn:
            break
        number = str(sent[-1]["Message-ID"])  # another program answers each answer, and does not say what it is
        mail.deliver(f"{turn + 1}.eml", make_email(f"turn{turn}", sender="robot@example.com", In_Reply_To=number))
    assert len(mail.sent()) == 10


@pytest.mark.parametrize(("name", "data"), list(attached()), ids=[name for name, _ in attached()])
def test_names_of_what_is_attached_are_safe(name: str, data: bytes) -> None:
    from whenvoca.places.mail.reading import read_email

    for each in read_email(data).attachments:
        assert each.name == each.name.strip(" .")
        assert not set(each.name) & set('/\\\0\n\r:*?"<>|')
        assert 0 < len(each.name) <= 120
        assert all(sign.isprintable() for sign in each.name)
