"""The protocol of a workspace's places all together."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import Any, Protocol

from whenvoca.calendars.free_busy import FreeBusy
from whenvoca.engine.mail_protocols import Mailbox
from whenvoca.engine.message_protocols import Chat, Outbox
from whenvoca.engine.place_protocols import Calendar, SavingFile, Sheet, Source, Writer


class Places(Protocol):
    """The places of a workspace, by lower-case name; each is opened when it is looked up."""

    @property
    def sheets(self) -> Mapping[str, Sheet]:
        """The sheets."""

    @property
    def calendars(self) -> Mapping[str, Calendar]:
        """The calendars."""

    @property
    def tasks(self) -> Mapping[str, Calendar]:
        """The lists of tasks."""

    @property
    def chats(self) -> Mapping[str, Chat]:
        """The chats."""

    @property
    def mailboxes(self) -> Mapping[str, Mailbox]:
        """Where emails come in."""

    @property
    def outboxes(self) -> Mapping[str, Outbox]:
        """Where emails go out."""

    def fetch_free_busy(self, address: str) -> FreeBusy:
        """The busy times that stand at an address on the web. Raises PlaceTrouble, SourceFault."""

    def of_kind(self, kind: str) -> Mapping[str, Any]:
        """The places of one kind, as settings call it."""

    def writer(self, name: str) -> Writer | None:
        """What carries out effects at once under that name: a place, or the web; None for a sheet, whose rows pend.

        Raises SettingsFault where the settings of the place are wrong.
        """

    def source(self, name: str, ledger: Any, subject: str = "") -> Source:
        """The place as a trigger sees it whose subjects are called so; ``ledger`` is the record that it is observed in.
        Raises SettingsFault."""

    @property
    def files(self) -> Sequence[SavingFile]:
        """The files behind the sheets opened so far."""

    def hash_of(self, file: str) -> str:
        """The hash of a file as it stands, empty if there is none. Raises PlaceTrouble."""

    def sweep(self) -> None:
        """Takes away temporaries that a crash left."""

    def rehearsed(self, instead: Mapping[str, Path] | None = None) -> Places:
        """The same places, where a write is only remembered; ``instead`` names files that stand for what they hold."""

    def renewed(self) -> Places:
        """The same places, opened afresh but for those that stay connected."""

    def watched_paths(self) -> Mapping[str, Sequence[Path]]:
        """The files and folders behind each place that triggers may look at; none for a server."""

    def listen(self, wake: Callable[[str], None]) -> None:
        """From now on ``wake`` is called, from another thread, with a place's name when something happens there."""
