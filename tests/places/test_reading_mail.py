"""Emails as mail programs write them, and as hostile ones do: what is read of them."""

from __future__ import annotations

import base64
import json
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import Desk
from whenvoca.errors import SourceFault
from whenvoca.places.mail.html_text import text_of_html
from whenvoca.places.mail.labelled import labelled
from whenvoca.places.mail.reading import new_text_of, read_email

HEAD = (
    "From: Joana <joana@example.org>\r\nTo: desk@example.org\r\nSubject: A visit\r\n"
    "Date: Wed, 17 Mar 2027 10:12:00 +0100\r\nMessage-ID: <a1@example.org>\r\nMIME-Version: 1.0\r\n"
)


def mail(kind: str, body: str | bytes, coding: str = "8bit", head: str = HEAD) -> bytes:
    data = body if isinstance(body, bytes) else body.encode()
    return f"{head}Content-Type: {kind}\r\nContent-Transfer-Encoding: {coding}\r\n\r\n".encode() + data


def parts(kind: str, *each: bytes, head: str = HEAD) -> bytes:
    inside = b"".join(b"--x\r\n" + part + b"\r\n" for part in each)
    return f'{head}Content-Type: {kind}; boundary="x"\r\n\r\n'.encode() + inside + b"--x--\r\n"


def part(kind: str, body: bytes, more: str = "") -> bytes:
    return f"Content-Type: {kind}\r\n{more}\r\n".encode() + body


JAPANESE = "見学は四月七日です"
TEXTS: dict[str, tuple[bytes, str]] = {
    "plain": (mail("text/plain; charset=utf-8", "Olá, às 10:00"), "Olá, às 10:00"),
    "quoted-printable": (mail("text/plain; charset=utf-8", "Ol=C3=A1, =\r\nas 10", "quoted-printable"), "Olá, as 10"),
    "base64": (mail("text/plain; charset=utf-8", base64.b64encode("Olá".encode()), "base64"), "Olá"),
    "windows-1252 called latin-1": (
        mail("text/plain; charset=iso-8859-1", b"\x93ten\x94 \x96 five \x80"),
        "“ten” – five €",
    ),
    "no charset": (mail("text/plain", "Olá".encode()), "Olá"),
    "utf-8 called latin-1": (mail("text/plain; charset=iso-8859-1", "Olá".encode()), "Olá"),
    "an unknown charset": (mail("text/plain; charset=x-nonsense", "Olá".encode()), "Olá"),
    "ISO-2022-JP": (mail("text/plain; charset=iso-2022-jp", JAPANESE.encode("iso-2022-jp")), JAPANESE),
    "format=flowed": (
        mail("text/plain; format=flowed", "one \r\ntwo\r\nthree\r\n\r\n From four"),
        "one two\nthree\n\nFrom four",
    ),
    "flowed, DelSp": (mail("text/plain; format=flowed; delsp=yes", "one \r\ntwo"), "onetwo"),
    "HTML alone": (
        mail(
            "text/html; charset=utf-8",
            "<head><title>no</title></head><p>Dear <b>desk</b>,<br>at ten</p><script>x</script>",
        ),
        "Dear desk,\nat ten",
    ),
    "a table": (
        mail("text/html", "<table><tr><td>Day</td><td>7 April</td></tr><tr><td>Pupils</td><td>24</td></tr></table>"),
        "Day\t7 April\n\nPupils\t24",
    ),
    "alternatives": (
        parts("multipart/alternative", part("text/plain", b"plain"), part("text/html", b"<p>html</p>")),
        "plain",
    ),
    "nested": (
        parts(
            "multipart/mixed",
            part('multipart/alternative; boundary="y"', b"--y\r\n" + part("text/plain", b"inner") + b"\r\n--y--"),
        ),
        "inner",
    ),
    "no end": (
        f'{HEAD}Content-Type: multipart/mixed; boundary="x"\r\n\r\n'.encode()
        + b"--x\r\n"
        + part("text/plain", b"open"),
        "open",
    ),
    "a wrapper": (
        parts("multipart/signed", part("text/plain", b"signed"), part("application/pgp-signature", b"zzz")),
        "signed",
    ),
    "line ends of old": (HEAD.replace("\r\n", "\n").encode() + b"\nolden", "olden"),
    "controls": (mail("text/plain", b"a\x00b\x1b[2Jc\x07d"), "ab[2Jcd"),
}


@pytest.mark.parametrize("name", TEXTS)
def test_what_an_email_says(name: str) -> None:
    data, text = TEXTS[name]
    assert read_email(data).text == text


def test_who_and_when_and_in_which_thread() -> None:
    head = (
        "From: =?utf-8?q?Joana_Sim=C3=B5es?= <Joana@Example.org>\r\nTo: a@example.org, B <b@example.org>\r\n"
        "Cc: c@example.org\r\nSubject: =?utf-8?b?VmlzaXQ=?=\r\n at ten\r\nDate: Wed, 17 Mar 2027 10:12:00 +0100\r\n"
        "Message-ID: <m3@example.org>\r\nReferences: <m1@example.org>\r\n <m2@example.org>\r\n"
        "In-Reply-To: <m2@example.org>\r\n"
    )
    found = read_email((head + "\r\nhello").encode())
    assert (found.sender_name, found.sender.lower()) == ("Joana Simões", "joana@example.org")
    assert (found.to, found.copies) == (("a@example.org", "b@example.org"), ("c@example.org",))
    assert (found.subject, found.number) == ("Visit at ten", "m3@example.org")
    assert found.references == ("m1@example.org", "m2@example.org")
    assert found.sent == datetime(2027, 3, 17, 9, 12, tzinfo=UTC)
    assert not found.is_automatic


@pytest.mark.parametrize(
    ("header", "automatic"),
    [
        ("Auto-Submitted: auto-replied", True),
        ("Auto-Submitted: no", False),
        ("Precedence: bulk", True),
        ("List-Id: <desk.example.org>", True),
        ("Return-Path: <>", True),
        ("X-Auto-Response-Suppress: All", True),
        ("X-Priority: 1", False),
    ],
)
def test_what_programs_have_sent_is_known(header: str, automatic: bool) -> None:
    assert read_email(f"{HEAD}{header}\r\n\r\nhello".encode()).is_automatic is automatic


@pytest.mark.parametrize(
    ("text", "new"),
    [
        ("at ten\n\nOn Tue, 16 Mar 2027, The desk wrote:\n> when?", "at ten"),
        ("at ten\n\nAm 16.03.2027 um 09:00 schrieb Desk:\n> when?", "at ten"),
        ("at ten\n-----Original Message-----\nFrom: x", "at ten"),
        ("at ten\n________________________________\nFrom: x", "at ten"),
        ("at ten\nFrom: Desk <desk@example.org>\nSent: Tuesday\nold", "at ten"),
        ("> when?\nat ten\n> where?\nin the dome", "at ten\nin the dome"),
        ("at ten\n-- \nJoana\nSchool", "at ten"),
        ("On Monday we wrote a plan\nat ten", "On Monday we wrote a plan\nat ten"),
        ("a\n\n\n\n\nb", "a\n\nb"),
    ],
)
def test_what_is_quoted_and_signed_is_not_new(text: str, new: str) -> None:
    assert new_text_of(text) == new


def test_labelled_lines() -> None:
    text = (
        "Dear desk,\nwe come at 10:00.\n\nDay: 7 April 2027\n* Pupils:  24\nPage\thttps://example.org/a\n"
        "Notes:\n  they bring\n  lunch\nName = Joana\n\nDay: 9 May"
    )
    assert labelled(text) == {
        "Day": "7 April 2027",
        "Pupils": "24",
        "Page": "https://example.org/a",
        "Notes": "they bring lunch",
        "Name": "Joana",
    }


def test_what_goes_with_it() -> None:
    ics = b"BEGIN:VCALENDAR\r\nMETHOD:REQUEST\r\nEND:VCALENDAR"
    found = read_email(
        parts(
            "multipart/mixed",
            part("text/plain", b"see"),
            part("text/calendar; method=REQUEST", ics),
            part(
                "application/octet-stream",
                b"1234",
                'Content-Disposition: attachment; filename="../../etc/pass\x07wd"\r\n',
            ),
            part("image/png", b"12", "Content-Disposition: attachment; filename*=utf-8''sky%E2%80%AE.png\r\n"),
            part("message/rfc822", HEAD.encode() + b"\r\ninner", "Content-Disposition: attachment\r\n"),
        )
    )
    assert found.text == "see"
    assert found.calendars == (ics,)
    assert [(each.name, each.size) for each in found.attachments][:2] == [("passwd", 4), ("sky_.png", 2)]


HOSTILE: dict[str, bytes] = {
    "nothing": b"",
    "no headers": b"hello\r\n\r\nworld",
    "ten thousand parts": parts("multipart/mixed", *[part("text/plain", b"p")] * 10_000),
    "nested 500 times": HEAD.encode()
    + b"".join(f'Content-Type: multipart/mixed; boundary="{n}"\r\n\r\n--{n}\r\n'.encode() for n in range(500))
    + b"\r\nx",
    "a header without end": b"From: " + b"a" * 3_000_000 + b"\r\n\r\nx",
    "a forged line": b"From: a@example.org\r\nSubject: =?utf-8?q?x=0D=0ABcc:_b@example.org?=\r\n\r\nx",
    "broken words": b"From: =?utf-8?q?\xff?= <a@example.org>\r\nSubject: =?x?y?z?=\r\n"
    b"To: <<<>>>;,:\r\nDate: nonsense\r\n\r\nx",
    "a broken type": HEAD.encode() + b"Content-Type: ;;;=\x00\r\nContent-Disposition: =;=\r\n\r\nx",
    "an unknown coding": mail("text/plain", "x", "x-uuencode"),
    "broken base64": mail("text/plain", "!!!", "base64"),
    "a long text": mail("text/plain", "a " * 1_000_000),
    "deep HTML": mail("text/html", "<div>" * 20_000 + "x"),
    "HTML that fetches": mail("text/html", '<img src="http://127.0.0.1:1/x"><link href="http://127.0.0.1:1/y">x'),
    "lone surrogates": mail("text/plain; charset=utf-8", b"\xed\xa0\x80x"),
}


@pytest.mark.parametrize("name", HOSTILE)
def test_hostile_emails_are_read_in_bounds(name: str) -> None:
    try:
        found = read_email(HOSTILE[name])
    except SourceFault:
        assert name in ("nothing", "no headers", "nested 500 times")
        return
    assert len(found.text) <= 200_000
    assert "\n" not in found.subject
    assert "\r" not in found.subject
    found.text.encode()


def test_the_command_tells_how_an_email_is_read(desk: Desk, tmp_path: Path) -> None:
    path = tmp_path / "visit.eml"
    path.write_bytes(
        mail("text/plain; charset=utf-8", "please book a visit on 7 April at 10:00 for two hours\n\nPupils: 24\n")
    )
    told: dict[str, Any] = json.loads(desk.run_anywhere("read", "mail", str(path), "--json").out)
    assert (told["sender"], told["automatic"], told["trusted"]) == ("joana@example.org", False, False)
    assert told["fields"] == {"Pupils": "24"}
    assert told["reading"]["intent"] == "create"
    assert told["calendar"] is None
    shown = desk.run_anywhere("read", "mail", str(path)).out
    assert "Joana <joana@example.org>" in shown
    assert "Wed 7 Apr" in shown  # the year is that of the day on which it was sent
    assert desk.run_anywhere("read", "mail", str(tmp_path / "none.eml")).code == 2


def test_html_that_cannot_be_read_is_empty() -> None:
    assert text_of_html("") == ""
    assert text_of_html("\x00\x00") == ""
