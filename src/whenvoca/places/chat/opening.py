"""Opens an XMPP chat from its settings."""

from __future__ import annotations

from zoneinfo import ZoneInfo

from whenvoca.engine.faces import ChatFace
from whenvoca.engine.workspace import Workspace
from whenvoca.places.settings import PlaceSettings


def open_xmpp(settings: PlaceSettings, workspace: Workspace, zone: ZoneInfo) -> ChatFace:
    """The chat of a server. Raises SettingsFault where a setting is missing."""
    raise NotImplementedError
