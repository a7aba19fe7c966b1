"""What all pages share: the settings, the secret, the thread that keeps what comes in, and how a page is drawn."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any

from jinja2 import Environment, FileSystemLoader, StrictUndefined
from starlette.responses import HTMLResponse

from whenvoca.engine.people import People, Person
from whenvoca.engine.workspace.web_key import KeyFile, WebKey
from whenvoca.engine.workspace.web_settings import WebSettings
from whenvoca.web.intake import IntakeThread
from whenvoca.web.jobs import Jobs
from whenvoca.web.outcomes import Waiting

PAGES = Path(__file__).parent / "pages"


class House:
    """One workspace's; ``folder`` is that of its state."""

    def __init__(self, name: str, settings: WebSettings, folder: Path, intake: IntakeThread, waiting: Waiting) -> None:
        self.name, self.settings, self.intake, self.waiting = name, settings, intake, waiting
        self.folder, self.jobs = folder, Jobs(intake, folder)
        self._former: Mapping[str, str] = {}
        self.is_closing = False  # what is kept open for long ends
        self._key_file = KeyFile(folder)
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

    def rename(self, former: Mapping[str, str]) -> None:
        """What places were called first, by their lower-case names of now: their links stay as they were."""
        self._former = former

    def token_of_entry(self, form: str, subject: str) -> str:
        """The word in the private link of an entry."""
        return self.key.token("entry", self.first_name(form), subject)

    def is_token_of_entry(self, given: str, form: str, subject: str) -> bool:
        """Whether that is the word, compared in constant time."""
        return self.key.is_token(given, "entry", self.first_name(form), subject)

    def is_of_hook(self, given: str, hook: str) -> bool:
        """Whether that is the word in the address of a hook, compared in constant time."""
        return self.key.is_of_hook(given, self.first_name(hook))

    def is_of_feed(self, given: str, calendar: str) -> bool:
        """Whether that is the word in the link of a calendar, compared in constant time."""
        return self.key.is_token(given, "feed", self.first_name(calendar))

    def path_of_entry(self, path: str, form: str, subject: str) -> str:
        """The private link of an entry of the form that is served at that path."""
        return f"{path}/{subject}-{self.token_of_entry(form, subject)}"

    def person_of(self, given: str, purpose: str, place: str, people: People) -> Person | None:
        """Whose personal link has that word, compared in constant time; None for nobody's."""
        first, key = self.first_name(place), self.key
        found = [each for each in people.persons.values() if key.is_of_person(given, purpose, first, each.name)]
        return found[0] if found else None

    def first_name(self, place: str) -> str:
        """What a place was called first, in lower case."""
        return self._former.get(place.lower(), place).lower()

    def render(self, template: str, *, status: int = 200, **told: Any) -> HTMLResponse:
        """A page; values come into it as text, never as HTML."""
        return HTMLResponse(self._pages.get_template(template).render(name=self.name, **told), status)
