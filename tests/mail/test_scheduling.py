"""A CalDAV server that can invite by itself is told to do so, or not to (RFC 6638); a stand-in says that it can."""

from __future__ import annotations

from collections.abc import Iterator

import pytest

from tests.mail.conftest import MAIL, MailDesk
from tests.servers import Answer, Fault, FaultyProxy, Radicale, running_radicale


@pytest.fixture(scope="module")
def radicale(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Radicale]:
    with running_radicale(tmp_path_factory.mktemp("radicale")) as server:
        yield server


def offering(method: str, number: int) -> Fault:
    def with_header(answer: Answer) -> Answer:
        headers = {name: value for name, value in answer.headers.items() if name.lower() != "dav"}
        return answer._replace(headers={**headers, "DAV": "1, 2, calendar-access, calendar-auto-schedule"})

    return with_header if method == "OPTIONS" else ""


def _only(radicale: Radicale, name: str) -> str:
    (data,) = radicale.events(name).values()
    return data.decode().replace("\r\n ", "")


TABLE = [
    ("", True, ";SCHEDULE-AGENT=CLIENT", 1),
    ("us", True, ";SCHEDULE-AGENT=CLIENT", 1),
    ("nobody", True, ";SCHEDULE-AGENT=NONE", 0),
    ("server", True, "", 0),
    ("us", False, "", 1),
]


@pytest.mark.parametrize(("invite", "can", "parameter", "count"), TABLE)
def test_who_invites(
    mail: MailDesk,
    radicale: Radicale,
    monkeypatch: pytest.MonkeyPatch,
    invite: str,
    can: bool,
    parameter: str,
    count: int,
) -> None:
    monkeypatch.setenv("DAV", "alicepw")
    name = f"hall-{invite or 'default'}-{can}"
    radicale.make(name, name)
    with FaultyProxy(radicale.url, offering if can else lambda method, number: "") as proxy:
        place = f'server = "{proxy.url}"\ncalendar = "{name}"\nuser = "alice"\npassword = {{ env = "DAV" }}\n'
        place += f'invite = "{invite}"\n' if invite else ""
        mail.settings(base=MAIL.replace('folder = "outreach"\n', place))
        mail.workflow(
            'when asked\n\ncreate event in outreach\n  title  "A"\n  start  2027-04-02 at 10:00\n'
            '  attendees  "ines", "tomas"\n  invite  yes\n'
        )
        checked = mail.run("check")
        said = "does not send invitations by itself"
        assert (said in checked.out + checked.err) == (invite == "server" and not can)
        done = mail.run("run", "emails")
        assert done.code == 0, done.out
        text = _only(radicale, name)
        lines = text.splitlines()
        attendees = [line for line in lines if line.startswith("ATTENDEE")]
        assert len(attendees) == 2
        assert all((";SCHEDULE-AGENT=" in line) == bool(parameter) and parameter in line for line in attendees)
        assert len(mail.sent()) == count if count else not (mail.folder / "mail-out").exists()
        mail.workflow("when asked about an event of outreach\n\nchange event\n  start  event.start + 1 hour\n")
        (uid,) = [line[4:] for line in lines if line.startswith("UID:")]
        assert mail.run("run", "emails", "--event", uid).code == 0
        text = _only(radicale, name)
        assert text.count("SCHEDULE-AGENT") == (2 if parameter else 0)
