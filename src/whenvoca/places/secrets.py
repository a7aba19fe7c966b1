"""Passwords by reference: from the environment or the system's keyring, never from a file of ours."""

from __future__ import annotations

import os

from whenvoca.errors import PlaceTrouble, SettingsFault
from whenvoca.places.settings import PlaceSettings


class Secret:
    """A password that is looked up when it is needed. Its text is shown by nothing."""

    is_token = False

    def __init__(self, settings: PlaceSettings, key: str, user: str) -> None:
        value = settings.table(key) if settings.has(key) and not settings.is_text(key) else None
        if settings.is_text(key):
            raise settings.refuse(
                key,
                f"the {key} itself stands in the file",
                f'name where it is kept: {key} = {{ env = "NAME" }}, or keyring',
            )
        if value is not None and (len(value) != 1 or next(iter(value)) not in ("env", "keyring")):
            raise settings.refuse(key, f'{key} is named by env or keyring: {key} = {{ env = "NAME" }}')
        kind, name = next(iter(value.items())) if value else ("", "")
        self._kind, self._name = str(kind), str(name)
        self._user = user
        self._place = settings.name

    def reveal(self) -> str:
        """The password, empty where none is named. Raises PlaceTrouble where it is not there."""
        if self._kind == "env":
            if (found := os.environ.get(self._name)) is None:
                raise PlaceTrouble(
                    f"its password is not there: the environment has no {self._name}",
                    where=self._place,
                    fix=f"set it before: export {self._name}=…",
                )
            return found
        return self._from_keyring() if self._kind else ""

    def _from_keyring(self) -> str:
        try:
            import keyring
        except ImportError as error:
            raise SettingsFault("keyring is not installed", fix="pip install 'whenvoca[server]'") from error
        try:
            found = keyring.get_password(self._name, self._user)
        except Exception as error:  # each backend has errors of its own
            raise PlaceTrouble(f"the keyring does not answer: {error}", where=self._place) from error
        if found is None:
            raise PlaceTrouble(
                f'its password is not there: the keyring has none of "{self._name}" for {self._user}',
                where=self._place,
                fix=f"keyring set {self._name} {self._user}",
            )
        return found
