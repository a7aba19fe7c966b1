"""A mailbox of 10,000 emails on a real server: the first look, the next one beside the same commands bare, and how soon
an email is worked on while the server tells of it.

    python -m benchmarks.mail
"""

from __future__ import annotations

import os
import statistics
import subprocess
import tempfile
import time
from pathlib import Path
from zoneinfo import ZoneInfo

from tests.conftest import WHENVOCA
from tests.mail.conftest import LOGGING, MAIL, make_email
from tests.mail_servers import Dovecot

from whenvoca.engine.ledger.sqlite import SqliteLedger
from whenvoca.engine.people import People
from whenvoca.engine.seeing.email_source import observe_mailbox
from whenvoca.places.mailbox.email_reader import EmailReader
from whenvoca.places.mailbox.imap import ImapAccount, ImapMailbox

COUNT, ROUNDS = 10_000, 50


def main() -> None:
    folder = Path(tempfile.mkdtemp())
    server = Dovecot(folder)
    box = folder / "mail/visits/Maildir/new"
    box.mkdir(parents=True)
    (box.parent / "cur").mkdir()
    (box.parent / "tmp").mkdir()
    for number in range(COUNT):
        (box / f"{number}.M1.host").write_bytes(make_email(f"n{number}", f"Day: 2 April 2027\nNumber {number}"))
    owner = (folder / "mail").stat()
    for path in [folder / "mail", *(folder / "mail").rglob("*")]:
        os.chown(path, owner.st_uid, owner.st_gid)
    server.start()
    try:
        _looks(folder, server)
        _idle(folder, server)
    finally:
        server.stop()


def _looks(folder: Path, server: Dovecot) -> None:
    from datetime import UTC, datetime

    zone = ZoneInfo("UTC")
    reader = EmailReader("post", zone, People({}), trust="sender", limit=10_000_000)
    account = ImapAccount("127.0.0.1", server.port, lambda client: client.login("visits", "visitspw"), tls="none")
    mailbox = ImapMailbox("post", zone, account, reader)
    ledger = SqliteLedger(folder / "ledger.sqlite")
    at = datetime(2027, 3, 17, tzinfo=UTC)
    begin = time.perf_counter()
    observe_mailbox(ledger, mailbox, at)
    print(f"first look at {COUNT} emails: {time.perf_counter() - begin:.2f} s")
    ours: list[float] = []
    bare: list[float] = []
    client = mailbox._client  # the same connection: what a server takes for one and for another differs by far
    for _ in range(ROUNDS):  # by turns
        for mine_first in (True, False):
            for is_mine in (mine_first, not mine_first):
                begin = time.perf_counter()
                if is_mine:
                    observe_mailbox(ledger, mailbox, at)
                else:
                    client.folder_status("INBOX", ["UIDVALIDITY", "UIDNEXT"])
                (ours if is_mine else bare).append(time.perf_counter() - begin)
    mine, theirs = statistics.median(ours), statistics.median(bare)
    print(f"the next look: {mine * 1000:.2f} ms, bare {theirs * 1000:.2f} ms: {mine / theirs:.2f} x (limit 1.5)")
    mailbox.close()
    ledger.close()


def _idle(folder: Path, server: Dovecot) -> None:
    desk = folder / "desk"
    (desk / "workflows").mkdir(parents=True)
    place = (
        f'server = "127.0.0.1"\nport = {server.port}\ntls = "none"\nuser = "visits"\npassword = {{ env = "POST" }}\n'
    )
    (desk / "whenvoca.toml").write_text(MAIL.replace('folder = "post"\n', place))
    (desk / "workflows/emails.voca").write_text(LOGGING)
    (desk / "log.csv").write_text("What,Who\n")
    environment = {**os.environ, "POST": "visitspw"}
    subprocess.run([WHENVOCA, "run"], cwd=desk, env=environment, check=True, capture_output=True)
    watching = subprocess.Popen([WHENVOCA, "watch"], cwd=desk, env=environment, stdout=subprocess.DEVNULL)
    try:
        time.sleep(5)
        waits = []
        for number in range(20):
            server.deliver(make_email(f"idle{number}", subject=f"Idle {number}"))
            begin = time.perf_counter()
            while not _has_run(desk, f"Idle {number}"):
                time.sleep(0.01)
            waits.append(time.perf_counter() - begin)
            time.sleep(0.5)
        print(f"worked on after its arrival: {statistics.median(waits):.2f} s, at most {max(waits):.2f} s (limit 1)")
    finally:
        watching.terminate()
        watching.wait()


def _has_run(desk: Path, subject: str) -> bool:
    import sqlite3

    with sqlite3.connect(f"file:{desk}/.whenvoca/ledger.sqlite?mode=ro", uri=True) as known:
        return bool(known.execute("SELECT 1 FROM runs WHERE label LIKE ?", (f"%{subject}",)).fetchone())


if __name__ == "__main__":
    main()
