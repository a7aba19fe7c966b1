"""What all pages share: the settings, the secret, the thread that keeps what comes in, and how a page is drawn."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from jinja2 import Environment, FileSystemLoader, StrictUndefined
from starlette.responses import HTMLResponse

from whenvoca.engine.workspace.web_settings import WebSettings
from whenvoca.web.intake import IntakeThread
from whenvoca.web.keys import KeyFile, WebKey
from whenvoca.web.outcomes import Waiting

PAGES = Path(__file__).parent / "pages"


class House:
    """One workspace's."""

    def __init__(
        self, name: str, settings: WebSettings, key_file: KeyFile, intake: IntakeThread, waiting: Waiting
    ) -> None:
        self.name, self.settings, self.intake, self.waiting = name, settings, intake, waiting
        self._key_file = key_file
        self._pages = Environment(
            loader=FileSystemLoader(PAGES),
            autoescape=True,
            undefined=StrictUndefined,
            trim_blocks=True,
            lstrip_blocks=True,
        )

    @property
    def key(self) -> WebKey:
        """The secret, as it is now."""
        return self._key_file.read()

    def render(self, template: str, *, status: int = 200, **told: Any) -> HTMLResponse:
        """A page; what is told stands in it as text, never as HTML."""
        return HTMLResponse(self._pages.get_template(template).render(name=self.name, **told), status)
