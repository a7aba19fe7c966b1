"""A mailbox on a server (IMAP, RFC 9051): each email once, by UIDs; IDLE (RFC 2177) tells when one comes in."""

from __future__ import annotations

import json
import ssl
import threading
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from datetime import date, datetime
from functools import partial
from typing import Any
from zoneinfo import ZoneInfo

from msgspec import Struct

from whenvoca.engine.effects import Effect, Receipt
from whenvoca.engine.mail_protocols import Mailbox, MailboxLook, NewEmail
from whenvoca.engine.one_by_one import each_by_itself
from whenvoca.engine.place_protocols import Resource
from whenvoca.errors import PlaceTrouble, RowFault, WhenvocaError
from whenvoca.language.definitions import PlaceInfo
from whenvoca.places.mailbox.email_reader import EmailReader, attached_part

_AT_ONCE = 50  # emails that are read before what they say is noted
_BRIEFLY = 500  # heads that are asked for in one request
_IDLE_SPAN = 540.0  # seconds after which waiting begins anew: servers hang up after half an hour
_FRESH = 20.0  # seconds for which a connection is taken to be there still
_PAUSES = (1.0, 60.0)  # seconds before a lost connection is tried again: at first, and at most
_HEAD, _BODY, _SIZE = "BODY.PEEK[HEADER]", "BODY.PEEK[]", "RFC822.SIZE"


class ImapAccount(Struct, frozen=True):
    """How a server is reached. ``sign_in`` logs a client in; ``tls`` is implicit (from the first byte), starttls or
    none."""

    host: str
    port: int
    sign_in: Callable[[Any], None]
    tls: str = "implicit"
    ca: str = ""
    seconds: float = 30.0


class ImapMailbox(Mailbox):
    """Folders of an account. ``folders`` are looked at, ``done`` is where those go whose run is done."""

    def __init__(
        self,
        name: str,
        zone: ZoneInfo,
        account: ImapAccount,
        reader: EmailReader,
        *,
        folders: Sequence[str] = ("INBOX",),
        after: str = "",
        done: str = "",
        since: date | None = None,
    ) -> None:
        self.name, self.zone = name, zone
        self.address = f"imap://{account.host}:{account.port}"
        self.after, self.done = after, done
        self.reader, self._folders, self._since = reader, tuple(folders), since
        self._account = account
        self._client: Any = None
        self._used = 0.0
        self._lock = threading.RLock()
        self._is_closed = threading.Event()

    def info(self) -> PlaceInfo:
        said = (
            'trust = "sender" takes every email for proven, and anybody can write to a server; '
            'trust = { results = "…" } asks who found that out'
        )
        warnings = (said,) if self.reader.trusts_everybody else ()
        return PlaceInfo(name=self.name, kind=self.kind, zone=self.zone.key, warnings=warnings)

    def holds(self) -> str:
        with self._connected() as client:
            counts = [int(client.folder_status(each, ["MESSAGES"])[b"MESSAGES"]) for each in self._folders]
        total = sum(counts)
        return f"answers, {total} email{'s' * (total != 1)}"

    # --- the connection

    @contextmanager
    def _connected(self) -> Iterator[Any]:
        """The connection; one that was lost is made anew, once. Raises PlaceTrouble."""
        import imapclient.exceptions as trouble

        with self._lock:
            try:
                if self._client is not None and time.monotonic() - self._used > _FRESH and not self._answers():
                    self._drop()
                if self._client is None:
                    self._client = self._connect()
                yield self._client
                self._used = time.monotonic()
            except trouble.LoginError as error:
                self._drop()
                raise PlaceTrouble(
                    f"the user or the password is refused: {_said(error)}",
                    where=self._where,
                    fix="look at user and password in whenvoca.toml",
                ) from error
            except ssl.SSLError as error:
                self._drop()
                raise PlaceTrouble(
                    f"its certificate is not trusted: {error.reason}",
                    where=self._where,
                    fix='name its authority: ca = "…"',
                ) from error
            except trouble.IMAPClientError as error:
                self._drop()
                raise PlaceTrouble(f"the server says: {_said(error)}", where=self._where, is_passing=True) from error
            except OSError as error:
                self._drop()
                said = "does not answer in time" if isinstance(error, TimeoutError) else _said(error)
                raise PlaceTrouble(f"cannot be reached: {said}", where=self._where, is_passing=True) from error

    @property
    def _where(self) -> str:
        return f"{self.name}, {self._account.host}:{self._account.port}"

    def _connect(self) -> Any:
        from imapclient import IMAPClient

        account = self._account
        context = ssl.create_default_context(cafile=account.ca or None)
        client = IMAPClient(
            account.host,
            port=account.port,
            ssl=account.tls == "implicit",
            ssl_context=context if account.tls == "implicit" else None,
            timeout=account.seconds,
        )
        try:
            if account.tls == "starttls":
                if not client.has_capability("STARTTLS"):
                    raise PlaceTrouble(
                        "the server offers no TLS, and the password would go out in the clear",
                        where=self._where,
                        fix='only on a machine of your own: tls = "none"',
                    )
                client.starttls(context)
            account.sign_in(client)
        except BaseException:
            with suppress(Exception):
                client.shutdown()
            raise
        return client

    def _answers(self) -> bool:
        """Whether a connection that has not been used for a while is still one."""
        with suppress(Exception):
            self._client.noop()
            return True
        return False

    def _drop(self) -> None:
        client, self._client = self._client, None
        if client is not None:
            with suppress(Exception):
                client.shutdown()

    # --- looking

    def look(self, known: Callable[[], Mapping[str, Resource]], cursor: str) -> MailboxLook:
        seen: dict[str, list[int]] = json.loads(cursor) if cursor else {}
        look = MailboxLook(cursor)
        with self._connected() as client:
            for folder in self._folders:
                told = client.folder_status(folder, ["UIDVALIDITY", "UIDNEXT"])
                validity, following = int(told[b"UIDVALIDITY"]), int(told[b"UIDNEXT"])
                before = seen.get(folder)
                if before is not None and before == [validity, following]:
                    continue
                client.select_folder(folder, readonly=True)
                is_same = before is not None and before[0] == validity
                low = before[1] if before is not None and is_same else 1
                uids = [uid for uid in self._search(client, low) if uid >= low]
                if before is None:
                    self._take_briefly(client, folder, validity, uids, look)
                elif is_same:
                    uids, rest = uids[:_AT_ONCE], uids[_AT_ONCE:]
                    self._take(client, folder, validity, uids, look)
                    if rest:  # up to there, for now
                        following, look.is_partial = rest[0], True
                else:  # the server counts anew: what has not been seen by its key is new
                    keys = {each.uid for each in known().values()}
                    heads = self._heads(client, uids)
                    fresh = [uid for uid in uids if self.reader.key_of(heads.get(uid, b"")) not in keys]
                    self._take(client, folder, validity, fresh, look)
                seen[folder] = [validity, following]
                if client.has_capability("UNSELECT"):
                    client.unselect_folder()  # asking again then is cheap
        look.cursor = json.dumps(seen)
        return look

    def _search(self, client: Any, low: int) -> list[int]:
        criteria: list[Any] = ["UID", f"{low}:*"]
        if self._since is not None:
            criteria += ["SINCE", self._since]
        return sorted(client.search(criteria))

    def _heads(self, client: Any, uids: Sequence[int]) -> dict[int, bytes]:
        found: dict[int, bytes] = {}
        for begin in range(0, len(uids), _BRIEFLY):
            for uid, told in client.fetch(uids[begin : begin + _BRIEFLY], [_HEAD]).items():
                found[uid] = told.get(b"BODY[HEADER]") or b""
        return found

    def _take_briefly(self, client: Any, folder: str, validity: int, uids: Sequence[int], look: MailboxLook) -> None:
        for uid, head in self._heads(client, uids).items():
            look.fresh[f"{folder}/{validity}.{uid}"] = self.reader.brief(head, folder)

    def _take(self, client: Any, folder: str, validity: int, uids: Sequence[int], look: MailboxLook) -> None:
        if not uids:
            return
        sizes = {uid: int(told[b"RFC822.SIZE"]) for uid, told in client.fetch(uids, [_SIZE]).items()}
        for uid in uids:
            name = f"{folder}/{validity}.{uid}"
            where = f"{self.name}, {folder} {uid}"
            told = self.reader.too_large(sizes.get(uid, 0), where)
            data = (client.fetch([uid], [_HEAD if told else _BODY]).get(uid) or {}) if uid in sizes else {}
            if told:
                look.faults.append(told)
                look.fresh[name] = NewEmail(self.reader.key_of(data.get(b"BODY[HEADER]") or b""), None)
            elif body := data.get(b"BODY[]"):
                look.fresh[name], told_of = self.reader.whole(body, folder, where)
                look.faults += told_of

    def read(self, key: str, name: str) -> Mapping[str, Any] | None:
        with self._connected() as client:
            found = self._find(client, key, name)
            if found is None:
                return None
            folder, uid = found
            if self.reader.too_large(int(client.fetch([uid], [_SIZE])[uid][b"RFC822.SIZE"]), self.name):
                return None
            data = client.fetch([uid], [_BODY])[uid][b"BODY[]"]
        return self.reader.whole(data, folder, self.name)[0].state

    def raw(self, key: str, name: str) -> bytes:
        with self._connected() as client:
            found = self._find(client, key, name)
            if found is None:
                raise RowFault("the email is no longer there", where=self.name, fix="put it back, then: whenvoca retry")
            return bytes(client.fetch([found[1]], [_BODY])[found[1]][b"BODY[]"])

    def _find(self, client: Any, key: str, name: str, *, writes: bool = False) -> tuple[str, int] | None:
        """The folder, which is then selected, and the UID under which the email is there now."""
        folder, _, numbers = name.rpartition("/")
        validity, _, uid = numbers.partition(".")
        places = [each for each in dict.fromkeys([folder, *self._folders, self.done]) if each]
        for each in places:
            if not client.folder_exists(each):
                continue
            selected = client.select_folder(each, readonly=not writes)
            if each == folder and str(selected[b"UIDVALIDITY"]) == validity and uid.isdecimal():
                candidates = [int(uid)]
            else:
                candidates = []
            for found in (candidates, None):
                tried = found if found is not None else client.search(["HEADER", "Message-ID", key])
                heads = client.fetch(tried, [_HEAD]) if tried else {}
                for number, told in sorted(heads.items()):
                    if self.reader.key_of(told.get(b"BODY[HEADER]") or b"") == key:
                        return each, int(number)
        return None

    # --- writing

    def apply(self, effects: Sequence[Effect], stamp: datetime) -> list[Receipt | WhenvocaError]:
        return each_by_itself(effects, partial(self._apply_one, stamp))

    def _apply_one(self, stamp: datetime, effect: Effect) -> Receipt:
        after, key = effect.after or {}, effect.target
        with self._connected() as client:
            found = self._find(client, key, effect.version, writes=True)
            if effect.action == "put":
                if found is None:
                    client.append(self._folders[0], effect.stored)
                return Receipt()
            if found is None:
                if effect.action == "take":
                    return Receipt()
                raise RowFault("the email is no longer there", where=self.name)
            folder, uid = found
            if effect.action == "take":
                _delete(client, uid)
            elif "flagged" in after:
                change = client.add_flags if after["flagged"] else client.remove_flags
                change([uid], [b"\\Flagged"])
            else:
                self._move(client, uid, folder, str(after["folder"]) or self._folders[0])
        return Receipt()

    def _move(self, client: Any, uid: int, folder: str, target: str) -> None:
        if folder == target:
            return
        if not client.folder_exists(target):
            client.create_folder(target)
        if client.has_capability("MOVE"):
            client.move([uid], target)
            return
        client.copy([uid], target)
        _delete(client, uid)

    # --- being told

    def part(self, email: bytes, number: int) -> bytes:
        return attached_part(email, number)

    def listen(self, wake: Callable[[], None]) -> None:
        threading.Thread(target=self._listen, args=(wake,), daemon=True).start()

    def _listen(self, wake: Callable[[], None]) -> None:
        """Waits on a connection of its own, and makes it anew when it is lost."""
        pause = _PAUSES[0]
        while not self._is_closed.is_set():
            client = None
            try:
                client = self._connect()
                if not client.has_capability("IDLE"):
                    return
                client.select_folder(self._folders[0], readonly=True)
                pause = _PAUSES[0]
                wake()  # what came while nobody listened
                self._idle(client, wake)
            except Exception:  # whatever it is, looking tells of it; here it is tried again
                self._is_closed.wait(pause)
                pause = min(pause * 2, _PAUSES[1])
            finally:
                if client is not None:
                    with suppress(Exception):
                        client.shutdown()

    def _idle(self, client: Any, wake: Callable[[], None]) -> None:
        waited = 0.0
        client.idle()
        while not self._is_closed.is_set():
            told = client.idle_check(timeout=5.0)
            waited += 5.0
            if any(len(each) > 1 and each[1] in (b"EXISTS", b"RECENT") for each in told):
                wake()
            if waited >= _IDLE_SPAN:
                client.idle_done()
                client.idle()
                waited = 0.0

    def close(self) -> None:
        """Ends both connections; the one that waits notices within seconds."""
        self._is_closed.set()
        with self._lock:
            self._drop()


def _delete(client: Any, uid: int) -> None:
    """Takes away that email, and no other that somebody has marked to be deleted."""
    client.delete_messages([uid])
    if client.has_capability("UIDPLUS"):
        client.uid_expunge([uid])


def _said(error: Exception) -> str:
    return str(error).removeprefix("b'").removesuffix("'") or type(error).__name__
