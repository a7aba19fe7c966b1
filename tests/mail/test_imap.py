"""Mailboxes on a real server (Dovecot): each email once, IDLE, filing, consents, and what goes wrong."""

from __future__ import annotations

import os
import signal
import subprocess
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from tests.authorization_server import AuthorizationServer, running_authorization_server
from tests.conftest import WHENVOCA
from tests.mail.conftest import LOGGING, MAIL, MailDesk, make_email
from tests.mail_servers import Dovecot, running_dovecot

_FOLDER = 'folder = "post"\ntrust = "sender"\n'


@pytest.fixture(scope="module")
def authorization() -> Iterator[AuthorizationServer]:
    with running_authorization_server() as server:
        yield server


@pytest.fixture(scope="module")
def certificate(tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, Path]:
    folder = tmp_path_factory.mktemp("certificate")
    key, made = folder / "key.pem", folder / "cert.pem"
    names = ["-subj", "/CN=localhost", "-addext", "subjectAltName=DNS:localhost"]
    subprocess.run(
        [*"openssl req -x509 -newkey rsa:2048 -nodes -days 2".split(), *names, "-keyout", str(key), "-out", str(made)],
        check=True,
        capture_output=True,
    )
    return made, key


@pytest.fixture(scope="module")
def dovecot(certificate: tuple[Path, Path], authorization: AuthorizationServer) -> Iterator[Dovecot]:
    introspection = f"{authorization.url}/introspect"
    with running_dovecot(certificate=certificate, introspection=introspection) as server:
        yield server


@pytest.fixture
def server(dovecot: Dovecot, mail: MailDesk, monkeypatch: pytest.MonkeyPatch) -> Dovecot:
    monkeypatch.setenv("POST", "visitspw")
    with dovecot.client() as client:
        for _, _, name in client.list_folders():
            client.select_folder(name)
            if uids := client.search("ALL"):
                client.delete_messages(uids)
                client.expunge()
    settings(mail, dovecot)
    mail.workflow(LOGGING)
    return dovecot


def settings(
    mail: MailDesk, server: Dovecot, *more: str, user: str = "visits", password: str = '{ env = "POST" }'
) -> None:
    lines = [
        f'server = "127.0.0.1"\nport = {server.port}\ntls = "none"\nuser = "{user}"\npassword = {password}',
        'trust = "sender"',
        *more,
    ]
    mail.settings(base=MAIL.replace(_FOLDER, "\n".join(lines) + "\n"))


def logged(mail: MailDesk) -> list[str]:
    return [line.partition(",")[0] for line in mail.read("log.csv").splitlines()[1:]]


def test_each_email_once_also_when_it_is_copied_or_the_mailbox_counts_anew(server: Dovecot, mail: MailDesk) -> None:
    server.deliver(make_email("old", subject="Old"))
    mail.begin()
    assert logged(mail) == []
    server.deliver(make_email("one", subject="One"))
    server.deliver(make_email("one", subject="One"))
    mail.run("run")
    assert logged(mail) == ["One"]
    assert mail.run("run").err.strip() == "nothing new"
    with server.client() as client:  # a mailbox of the same name that counts anew, with one more
        kept = [client.fetch([uid], ["BODY[]"])[uid][b"BODY[]"] for uid in _all(client)]
        client.create_folder("aside")
        client.select_folder("INBOX")
        client.delete_messages(_all(client))
        client.expunge()
        for data in [*kept, make_email("two", subject="Two")]:
            client.append("INBOX", data)
    for path in (server.folder / "mail/visits/Maildir").glob("dovecot-uid*"):
        path.unlink()
    for path in (server.folder / "mail/visits/Maildir").glob("dovecot.index*"):
        path.unlink()
    mail.run("run")
    assert logged(mail) == ["One", "Two"]


def _all(client: Any) -> list[int]:
    client.select_folder("INBOX")
    return list(client.search("ALL"))


def test_folders_are_looked_at_and_narrowed(server: Dovecot, mail: MailDesk) -> None:
    settings(mail, server, 'mailbox = ["INBOX", "Größe"]', 'limit = "2 kB"')
    with server.client() as client:
        if not client.folder_exists("Größe"):
            client.create_folder("Größe")
    mail.workflow(LOGGING.replace("email\n\n", 'email\n  mailbox "Größe"\n\n', 1)).begin()
    server.deliver(make_email("one", subject="One"))
    server.deliver(make_email("two", subject="Two"), folder="Größe")
    server.deliver(make_email("big", "x" * 3000), folder="Größe")
    done = mail.run("run")
    assert logged(mail) == ["Two"]
    assert "more than 2 kB, and was not read" in done.out + done.err


@pytest.mark.parametrize(("after", "where"), [('after = "flag"', "INBOX"), ('after = { move = "Done" }', "Done")])
def test_what_is_done_is_flagged_or_moved_and_comes_back(
    server: Dovecot, mail: MailDesk, after: str, where: str
) -> None:
    settings(mail, server, after)
    mail.begin()
    server.deliver(make_email("one"))
    assert mail.run("run").code == 0
    with server.client() as client:
        client.select_folder(where)
        (uid,) = client.search("ALL")
        flags = client.get_flags([uid])[uid]
    assert (b"\\Flagged" in flags) == ("flag" in after)
    assert b"\\Seen" not in flags
    assert mail.run("undo", "1", "--yes").code == 0
    with server.client() as client:
        client.select_folder("INBOX")
        assert len(client.search("UNFLAGGED")) == 1
    mail.run("run")
    assert logged(mail) == []  # it is held, since its run was taken back


def test_attachments_are_fetched_where_the_email_is_now(server: Dovecot, mail: MailDesk) -> None:
    settings(mail, server, 'after = { move = "Done" }')
    keeping = 'when post receives an email\n\nfor each one in email.attachments\n  save one in "received"\n'
    mail.workflow(keeping, "keeping").begin()
    server.deliver(make_email("one", attach=("a.txt", "text/plain", b"content")))
    assert mail.run("run").code == 0
    assert (mail.folder / "received/a.txt").read_bytes() == b"content"
    assert len(logged(mail)) == 1


def test_rehearsing_leaves_everything_as_it_was(server: Dovecot, mail: MailDesk) -> None:
    settings(mail, server, 'after = { move = "Done" }')
    mail.begin()
    server.deliver(make_email("one"))
    assert "file email" in mail.run("rehearse").out
    with server.client() as client:
        client.select_folder("INBOX")
        assert len(client.search("UNSEEN")) == 1


def test_an_email_is_worked_on_as_soon_as_it_comes(server: Dovecot, mail: MailDesk) -> None:
    mail.begin()
    watching = subprocess.Popen([WHENVOCA, "watch"], cwd=mail.folder, stdout=subprocess.DEVNULL)
    try:
        _until(lambda: (mail.folder / ".whenvoca/watch.json").exists())
        time.sleep(1.5)  # it listens by then
        server.deliver(make_email("one", subject="One"))
        _until(lambda: logged(mail) == ["One"])
        server.deliver(make_email("two", subject="Two"))
        _until(lambda: logged(mail) == ["One", "Two"])
    finally:
        watching.send_signal(signal.SIGTERM)
        watching.wait(20)


def _until(holds: Any) -> None:
    for _ in range(200):
        if holds():
            return
        time.sleep(0.05)
    raise AssertionError("it did not happen within ten seconds")


WRONG = [({"POST": "wrong"}, "the user or the password is refused", 3), ({"PORT": "1"}, "cannot be reached", 3)]


@pytest.mark.parametrize(("how", "said", "code"), WRONG, ids=[each[1] for each in WRONG])
def test_what_is_wrong_with_the_server_is_said(
    server: Dovecot, mail: MailDesk, monkeypatch: pytest.MonkeyPatch, how: dict[str, str], said: str, code: int
) -> None:
    mail.begin()
    for name, value in how.items():
        monkeypatch.setenv(name, value)
    if "PORT" in how:
        text = (mail.folder / "whenvoca.toml").read_text()
        (mail.folder / "whenvoca.toml").write_text(text.replace(f"port = {server.port}", "port = 1"))
    done = mail.run("run")
    assert said in done.out + done.err
    assert done.code == code


def test_certificates_are_looked_at(server: Dovecot, mail: MailDesk, certificate: tuple[Path, Path]) -> None:
    def with_tls(ca: str) -> str:
        settings(mail, server)
        text = (mail.folder / "whenvoca.toml").read_text()
        text = text.replace(
            f'"127.0.0.1"\nport = {server.port}\ntls = "none"', f'"localhost"\nport = {server.secure_port}{ca}'
        )
        (mail.folder / "whenvoca.toml").write_text(text)
        told = mail.run("places")
        return told.out + told.err

    assert "its certificate is not trusted" in " ".join(with_tls("").split())
    assert "answers, 0 emails" in with_tls(f'\nca = "{certificate[0]}"')


def test_trusting_everybody_on_a_server_is_warned_of(server: Dovecot, mail: MailDesk) -> None:
    said = 'trust = "sender" takes every email for proven'
    checked = mail.run("check")
    assert said in checked.out + checked.err
    path = mail.folder / "whenvoca.toml"
    path.write_text(path.read_text().replace('trust = "sender"', 'trust = { results = "mail.example.org" }'))
    checked = mail.run("check")
    assert said not in checked.out + checked.err


def test_a_password_does_not_go_out_in_the_clear(mail: MailDesk) -> None:
    text = MAIL.replace(_FOLDER, 'server = "mail.example.org"\ntls = "none"\nuser = "x"\n')
    told = mail.settings(base=text).run("places", "--json")
    assert "the password would go to mail.example.org unencrypted" in told.out + told.err


# --- consents


@pytest.fixture
def account(
    server: Dovecot,
    mail: MailDesk,
    authorization: AuthorizationServer,
    monkeypatch: pytest.MonkeyPatch,
    tmp_path_factory: pytest.TempPathFactory,
) -> AuthorizationServer:
    monkeypatch.setenv("PYTHON_KEYRING_BACKEND", "keyring.backends.fail.Keyring")
    browser = tmp_path_factory.mktemp("browser") / "browser"
    browser.write_text('#!/bin/sh\ncurl -sL "$1" >/dev/null &\n')
    browser.chmod(0o755)
    monkeypatch.setenv("BROWSER", f"{browser} %s")
    authorization.is_typed = authorization.rotates = False
    authorization.refuses, authorization.lasts = "", 3600
    authorization.refresh.clear()
    ask_for(mail, server, authorization)
    return authorization


def ask_for(mail: MailDesk, server: Dovecot, authorization: AuthorizationServer, *ways: str) -> None:
    settings(mail, server, user="desk@example.org", password='{ consent = "mail" }')
    path = mail.folder / "whenvoca.toml"
    path.write_text(path.read_text() + authorization.settings("mail", *ways))


@pytest.mark.parametrize("ways", [("authorize",), ("device",), ("authorize", "device")])
def test_who_has_consented_is_signed_in(
    account: AuthorizationServer, server: Dovecot, mail: MailDesk, ways: tuple[str, ...]
) -> None:
    ask_for(mail, server, account, *ways)
    before = mail.run("run")
    assert before.code == 3
    assert "nobody has consented to its use yet" in before.err
    assert "whenvoca consent post" in before.err
    done = mail.run("consent", "post", *(["--code"] if len(ways) == 2 else []))
    assert done.code == 0, done
    assert ("type ABCD-EFGH" in done.err) == (ways != ("authorize",))
    kept = mail.folder / ".whenvoca/consents.json"
    assert kept.stat().st_mode & 0o777 == 0o600
    assert "there is no keyring here" in done.err
    assert not any(token in done.out + done.err for token in (*account.access, *account.refresh))
    assert mail.run("run").code == 0
    assert mail.run("places").out.count("answers, 0 emails") == 1


def test_a_consent_is_renewed_and_its_end_is_told(account: AuthorizationServer, mail: MailDesk) -> None:
    account.lasts, account.rotates = 1, True
    assert mail.run("consent", "post").code == 0
    for _ in range(2):
        assert mail.run("run").code == 0
    account.refresh.clear()
    done = mail.run("run")
    assert done.code == 3
    assert "its consent does not hold any more: revoked" in done.err


def test_a_consent_that_is_refused_keeps_nothing(account: AuthorizationServer, mail: MailDesk) -> None:
    account.refuses = "access_denied"
    done = mail.run("consent", "post")
    assert (done.code, "no consent: access_denied" in done.err) == (2, True)
    assert not (mail.folder / ".whenvoca/consents.json").exists()


CONSENTS = [
    ("[consents.other]\n", 'there is no consent "mail"'),
    ('[consents.mail]\nclient = "x"\n', "token is missing"),
    ('[consents.mail]\nclient = "x"\ntoken = "https://x/t"\n', "it says neither authorize nor device"),
    ('[consents.mail]\nclient = "x"\ntoken = "http://example.org/t"\ndevice = "https://x/d"\n', "is not encrypted"),
    ('[consents.mail]\nclint = "x"\n', 'there is no setting "clint"'),
    ("consents = 3\n", "consents are tables"),
]


@pytest.mark.parametrize(("table", "said"), CONSENTS, ids=[each[1] for each in CONSENTS])
def test_consents_that_are_set_wrongly_are_named(mail: MailDesk, table: str, said: str) -> None:
    place = 'server = "127.0.0.1"\ntls = "none"\nuser = "x"\npassword = { consent = "mail" }\n'
    text = MAIL.replace(_FOLDER, place)
    mail.settings(base=f"{table}{text}" if table.startswith("consents") else f"{text}{table}")
    told = mail.run("places", "--json")
    assert said.replace('"', '\\"') in told.out + told.err or said in told.err


def test_a_place_that_needs_no_consent_says_so(mail: MailDesk) -> None:
    done = mail.run("consent", "post")
    assert (done.code, "post needs no consent" in done.err) == (2, True)
    assert os.path.exists(mail.folder / "whenvoca.toml")
