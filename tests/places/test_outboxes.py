"""The contract of outboxes, on the stand-in folder and on a real SMTP server, and what only the server can do wrong."""

from __future__ import annotations

import json
import os
from collections.abc import Iterator
from datetime import UTC, datetime
from email import message_from_bytes
from email.message import EmailMessage
from email.policy import default
from pathlib import Path
from zoneinfo import ZoneInfo

import pytest

from tests.chat_servers import CatchingServer
from tests.conftest import SETTINGS, Desk
from tests.servers import free_port
from whenvoca.calendars.event import Event
from whenvoca.calendars.reader import read_events
from whenvoca.calendars.writer import write_calendar
from whenvoca.engine.effects import Effect, Receipt
from whenvoca.engine.message_protocols import Outbox as OutboxProtocol
from whenvoca.errors import PlaceTrouble, RowFault
from whenvoca.places.mail.folder import FolderOutbox
from whenvoca.places.mail.smtp import SmtpOutbox
from whenvoca.places.secrets import Secret
from whenvoca.places.settings import PlaceSettings

UTC_ZONE = ZoneInfo("UTC")
STAMP = datetime(2027, 3, 17, 16, 20, tzinfo=UTC)
EVENT = Event(uid="v11", title="Sea School", start=STAMP, end=STAMP.replace(hour=18))
NUMBER = "5b0c6a54-6f0e-4f0b-9a43-2f6a3f0c1d7e"


@pytest.fixture(scope="module")
def server() -> Iterator[CatchingServer]:
    made = CatchingServer()
    made.start()
    yield made
    made.stop()


def smtp(port: int, *, user: str = "", word: str = "deskpw") -> SmtpOutbox:
    os.environ["OUTBOX"] = word
    secret = Secret(PlaceSettings("emails", {"password": {"env": "OUTBOX"}}, ""), "password", user)
    return SmtpOutbox(
        "emails", "127.0.0.1", port, UTC_ZONE, "desk@example.org", user=user, password=secret, tls="none", seconds=2
    )


class Outbox:
    """An outbox, and the emails that came out of it."""

    def __init__(self, face: OutboxProtocol, folder: Path | None, server: CatchingServer | None) -> None:
        self.face, self._folder, self._server = face, folder, server
        if server is not None:
            server.emails.clear()

    def emails(self) -> list[EmailMessage]:
        if self._server is not None:
            return [email for _, email in self._server.emails]
        assert self._folder is not None
        found = [message_from_bytes(path.read_bytes(), policy=default) for path in sorted(self._folder.glob("*.eml"))]
        return [each for each in found if isinstance(each, EmailMessage)]

    def send(self, **after: object) -> object:
        kept = str(after.pop("kept", ""))
        full = {"to": ["ana@example.org"], "subject": "Your visit", "text": "Grüße,\n.\nwe expect you", **after}
        (answer,) = self.face.apply(
            [Effect(verb="send email", place="emails", target=NUMBER, after=full, kept=kept)], STAMP
        )
        return answer


@pytest.fixture(params=["folder", "smtp"])
def outbox(request: pytest.FixtureRequest, tmp_path: Path) -> Outbox:
    if request.param == "folder":
        return Outbox(FolderOutbox("emails", tmp_path, "emails", UTC_ZONE, "desk@example.org"), tmp_path, None)
    server = request.getfixturevalue("server")
    return Outbox(smtp(server.port, user="desk"), None, server)


def test_email_arrives_as_it_was_written(outbox: Outbox) -> None:
    answer = outbox.send(**{"to": ["ana@example.org", "rui@example.org"], "reply-to": "visits@example.org"})
    assert isinstance(answer, Receipt)
    (email,) = outbox.emails()
    assert (email["From"], email["To"], email["Subject"]) == (
        "desk@example.org",
        "ana@example.org, rui@example.org",
        "Your visit",
    )
    assert (email["Reply-To"], email["Message-ID"]) == ("visits@example.org", f"<{NUMBER}@example.org>")
    assert email.get_content().rstrip().replace("\r", "") == "Grüße,\n.\nwe expect you"


def test_event_goes_with_an_email_as_a_calendar_part(outbox: Outbox) -> None:
    text = write_calendar(EVENT, STAMP).decode()
    assert isinstance(outbox.send(attach=["Sea School"], kept=json.dumps([text])), Receipt)
    (part,) = outbox.emails()[0].iter_attachments()
    assert (part.get_content_type(), part.get_filename()) == ("text/calendar", "event.ics")
    content = part.get_payload(decode=True)
    assert isinstance(content, bytes)
    (event,) = read_events(content, UTC_ZONE)
    assert (event.uid, event.start) == ("v11", STAMP)


def test_email_sent_again_has_one_identity(outbox: Outbox) -> None:
    for _ in range(2):
        assert isinstance(outbox.send(), Receipt)
    assert {email["Message-ID"] for email in outbox.emails()} == {f"<{NUMBER}@example.org>"}


@pytest.mark.parametrize(
    "address", ["ana@example.org\nBcc: all@example.org", "ana@example.org\r\n", "nobody", "a b@example.org", ""]
)
def test_address_that_is_none_sends_nothing(outbox: Outbox, address: str) -> None:
    answer = outbox.send(to=[address])
    assert isinstance(answer, RowFault)
    assert "is not an email address" in answer.message
    assert outbox.emails() == []


def test_subject_with_line_breaks_stays_one_line(outbox: Outbox) -> None:
    assert isinstance(outbox.send(subject="one\nBcc: all@example.org"), Receipt)
    (email,) = outbox.emails()
    assert email["Subject"] == "one Bcc: all@example.org"
    assert email["Bcc"] is None


def test_outbox_says_how_it_is(outbox: Outbox) -> None:
    assert (outbox.face.describe().kind, outbox.face.describe().trouble) == ("outbox", "")


# --- only the server


def test_refused_recipient_is_named_and_the_others_have_the_email(server: CatchingServer) -> None:
    outbox = Outbox(smtp(server.port), None, server)
    answer = outbox.send(to=["ana@example.org", "reject@example.org"])
    assert isinstance(answer, RowFault)
    assert "refused: reject@example.org (550" in answer.message
    assert "the others have the email" in answer.message
    assert len(outbox.emails()) == 1
    none = outbox.send(to=["reject@example.org"])
    assert isinstance(none, RowFault)
    assert "nobody has the email" in none.message


def test_recipient_put_off_is_tried_again(server: CatchingServer) -> None:
    answer = Outbox(smtp(server.port), None, server).send(to=["later@example.org"])
    assert isinstance(answer, PlaceTrouble)
    assert answer.is_passing


def test_refused_password_is_not_tried_again(server: CatchingServer) -> None:
    outbox = Outbox(smtp(server.port, user="desk", word="nonsense"), None, server)
    answer = outbox.send()
    assert isinstance(answer, PlaceTrouble)
    assert (answer.message, answer.is_passing) == ("the user or the password is refused", False)
    assert outbox.face.describe().trouble == "the user or the password is refused"


def test_server_that_is_away_may_come_back() -> None:
    answer = Outbox(smtp(free_port()), None, None).send()
    assert isinstance(answer, PlaceTrouble)
    assert answer.is_passing


def test_password_never_goes_out_in_the_clear_unless_said(server: CatchingServer, desk: Desk) -> None:
    place = (
        f'[places.emails]\nkind = "outbox"\nserver = "127.0.0.1"\nport = {server.port}\nuser = "desk"\nfrom = '
        '"desk@example.org"\n'
        'password = { env = "OUTBOX" }\n'
    )
    os.environ["OUTBOX"] = "deskpw"
    server.emails.clear()
    desk.settings(SETTINGS, place).workflow(
        'when asked\n\nsend email to "ines"\n  subject  "Hello"\n  text     "Hello Ines"\n'
    )
    refused = desk.run("run", "slots")
    assert refused.code == 2
    assert "would go out in the clear" in " ".join((refused.out + refused.err).split())
    assert server.emails == []
    server.emails.clear()
    desk.settings(SETTINGS, place + 'tls = "none"\n')
    assert desk.run("run", "slots").code == 0
    assert [(to, email["Subject"]) for to, email in server.emails] == [(["ines@example.org"], "Hello")] * 2
    assert len({email["Message-ID"] for _, email in server.emails}) == 2  # it was started twice


def outbox_of(server: CatchingServer, *, user: str = "") -> str:
    return (
        f'[places.emails]\nkind = "outbox"\nserver = "127.0.0.1"\nport = {server.port}\nfrom = "desk@example.org"\n'
        f'tls = "none"\nseconds = 1\n{user}[places.requests]\nkind = "sheet"\nfile = "requests.csv"\nkey = "No"\n'
    )


SEND = 'when requests gains a row\n\nsend email to Title\n  subject  "Hello {row.No}"\n  text     "Hello"\n'
ROW = ",,R-1,{},2027-03-17,21:30,22:00"


def test_without_tls_nothing_goes_out_unless_said(server: CatchingServer, desk: Desk) -> None:
    server.emails.clear()
    desk.settings(SETTINGS, outbox_of(server).replace('tls = "none"\n', "")).workflow(SEND)
    desk.rows(ROW.format("ana@example.org"))
    result = desk.run("run")
    assert "offers no TLS, and emails would go out in the clear" in " ".join((result.out + result.err).split())
    assert server.emails == []


def test_each_of_several_recipients_gets_it_once(server: CatchingServer, desk: Desk) -> None:
    """One is refused, one put off: who has the email does not get it again, all have the same one."""
    server.emails.clear()
    desk.settings(SETTINGS, outbox_of(server)).workflow("tries  1\n" + SEND)
    desk.rows(ROW.format('"ana@example.org, later@example.org, reject@example.org, rui@example.org"'))
    assert desk.run("run", "--now", "2027-03-01 10:00").code == 3
    assert [to for to, _ in server.emails] == [["ana@example.org"]]
    server.puts_off = False
    try:
        result = desk.run("run", "--now", "2027-03-01 10:10")
    finally:
        server.puts_off = True
    assert result.code == 1
    assert "reject@example.org (550" in result.out
    assert [to[0] for to, _ in server.emails] == ["ana@example.org", "later@example.org", "rui@example.org"]
    assert desk.run("retry", "--failed").code == 1
    assert len(server.emails) == 3
    assert len({email["Message-ID"] for _, email in server.emails}) == 1
    assert server.emails[0][1]["To"] == "ana@example.org, later@example.org, reject@example.org, rui@example.org"


def test_the_brake_counts_emails_and_not_recipients(server: CatchingServer, desk: Desk) -> None:
    server.emails.clear()
    desk.settings(SETTINGS, outbox_of(server)).workflow("brake 1 emails\n" + SEND)
    desk.rows(ROW.format('"ana@example.org, rui@example.org, tomas@example.org"'))
    assert desk.run("run").code == 0
    assert len(server.emails) == 3


def test_a_slow_answer_to_an_email_is_waited_for(server: CatchingServer, desk: Desk) -> None:
    server.emails.clear()
    desk.settings(SETTINGS, outbox_of(server)).workflow(SEND).rows(ROW.format("ana@example.org"))
    server.seconds = 2.5  # and the place says one
    try:
        assert desk.run("run").code == 0
    finally:
        server.seconds = 0.0
    assert len(server.emails) == 1


def test_an_email_that_is_not_taken_has_failed(server: CatchingServer, desk: Desk) -> None:
    desk.settings(SETTINGS, outbox_of(server)).workflow(SEND).rows(ROW.format("ana@example.org"))
    server.answer = "552 5.3.4 too large"
    try:
        result = desk.run("run")
    finally:
        server.answer = "250 OK"
    assert (result.code, "552 5.3.4 too large" in result.out) == (1, True)


def test_a_run_that_was_begun_goes_on_about_its_row_though_that_is_gone(server: CatchingServer, desk: Desk) -> None:
    """Nobody gets an email about nothing: what it tells is what the row said when the run began."""
    server.emails.clear()
    desk.settings(SETTINGS, outbox_of(server)).workflow(SEND.replace("email to Title", 'email to "ines"'))
    desk.rows(ROW.format("M 42"), ROW.format("M 13").replace("R-1", "R-2"))
    server.answer = "451 4.3.0 later"
    try:
        assert desk.run("run").code == 3
    finally:
        server.answer = "250 OK"
    desk.rows(ROW.format("M 13").replace("R-1", "R-2"))
    assert desk.run("run").code == 0
    assert sorted(str(email["subject"]) for _, email in server.emails) == ["Hello R-1", "Hello R-2"]
