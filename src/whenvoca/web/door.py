"""The door: one HTTP server in a thread of its own, with what the places of the workspace serve at the moment."""

from __future__ import annotations

import asyncio
import contextlib
import logging
import re
import socket
import threading
from collections.abc import Awaitable, Callable, Sequence

import uvicorn
from starlette.applications import Starlette
from starlette.exceptions import HTTPException
from starlette.requests import Request
from starlette.responses import JSONResponse, PlainTextResponse, Response
from starlette.routing import Route
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from whenvoca.engine.clock import Clock
from whenvoca.engine.ledger.protocol import Ledger
from whenvoca.engine.ledger.records import RunRecord
from whenvoca.engine.workspace.settings import Workspace
from whenvoca.engine.workspace.web_settings import WebSettings
from whenvoca.errors import PlaceTrouble, WhenvocaError
from whenvoca.language import tree
from whenvoca.places.chat.folder import FolderChat
from whenvoca.places.chat.paged import PagedChat
from whenvoca.places.form.place import Form
from whenvoca.places.hook.place import Hook
from whenvoca.places.open_places import OpenPlaces
from whenvoca.unforeseen import tell_unforeseen
from whenvoca.web.board_pages import BoardPages
from whenvoca.web.confirmations import Confirmations
from whenvoca.web.desk_pages import DeskPages
from whenvoca.web.feeds import Feeds
from whenvoca.web.form_pages import FormPages
from whenvoca.web.hook_calls import HookCalls
from whenvoca.web.house import PAGES, House
from whenvoca.web.intake import IntakeThread
from whenvoca.web.outcomes import Waiting
from whenvoca.web.refused import note_refused
from whenvoca.web.requests import Floodgate, sender_of

for _name in ("uvicorn", "uvicorn.error"):  # what is wrong is said by us
    logging.getLogger(_name).addHandler(logging.NullHandler())
    logging.getLogger(_name).propagate = False
_MOST_CONNECTIONS = 2000
_QUIET_SECONDS = 5  # after which a connection that asks nothing is closed
_HEADERS = [
    (
        b"content-security-policy",
        b"default-src 'none'; style-src 'self'; form-action 'self'; frame-ancestors 'none'; base-uri 'none'",
    ),
    (b"x-content-type-options", b"nosniff"),
    (b"x-frame-options", b"DENY"),
    (b"referrer-policy", b"no-referrer"),
    (b"cross-origin-opener-policy", b"same-origin"),
    (b"cross-origin-resource-policy", b"same-origin"),
    (b"cache-control", b"no-store"),
]
_HEADERS_OF_DATA = [each for each in _HEADERS if each[0] in (b"x-content-type-options", b"cache-control")]
_METHODS = ("GET", "HEAD", "POST", "PUT", "PATCH", "DELETE", "OPTIONS")
_OWN = re.compile(r"\d+-[a-z2-7]+")
Answering = Callable[[Request], Awaitable[Response]]


class Door:
    """Serves forms and hooks while it is open. ``note`` hears what is worth a line, ``trouble`` what went
    wrong; ``describe`` tells in a line what a run did; ``wake`` has handed-over jobs done."""

    def __init__(
        self,
        workspace: Workspace,
        clock: Clock,
        note: Callable[[str], None],
        trouble: Callable[[str], None],
        describe: Callable[[RunRecord], str],
        wake: Callable[[], None],
    ) -> None:
        assert workspace.web is not None
        self.settings: WebSettings = workspace.web
        self._clock, self._trouble, self._folder = clock, trouble, workspace.folder.absolute()
        folder = workspace.make_state_folder()
        self._intake = IntakeThread(folder / "ledger.sqlite")
        self.waiting = Waiting()
        self._house = House(workspace.name, self.settings, folder, self._intake, self.waiting)
        self._feeds = Feeds(self._house)
        self._confirmations = Confirmations(self._house, folder / "ledger.sqlite", clock, note, trouble)
        self._describe, self._wake = describe, wake
        self._board: BoardPages | None = None
        self._desks: dict[str, DeskPages] = {}
        self._forms: dict[str, FormPages] = {}
        self._hooks: dict[str, HookCalls] = {}
        self._gate = Floodgate(self.settings.of_sender, self.settings.total)
        self._server: uvicorn.Server | None = None

    # --- what is served

    def serve(self, workspace: Workspace, places: OpenPlaces, workflows: Sequence[tree.Workflow]) -> None:
        """From now on the forms, hooks and calendars of these."""
        self._house.rename(workspace.former_places)
        feeds = {name.lower(): str(table["feed"]) for name, table in workspace.places.items() if table.get("feed")}

        def open_places() -> OpenPlaces:  # for threads of the door's own
            return OpenPlaces(workspace, self._clock)

        self._feeds.serve(feeds, open_places)
        followed = {
            each.trigger.places[0].lower()
            for each in workflows
            if each.trigger.places and {"changed", "lost"} <= set(each.trigger.happenings)
        }
        forms, hooks = {}, {}
        confirming: dict[str, tuple[Form, bool]] = {}
        self.waiting.read = {name.lower() for each in workflows for name in each.trigger.places}
        for place in (*places.usable("form"), *places.usable("hook")):
            if isinstance(place, Form):
                may_follow = place.name.lower() in followed
                confirming[place.name] = (place, may_follow)
                forms[place.path] = FormPages(self._house, place, self._clock, open_places, may_follow=may_follow)
            elif isinstance(place, Hook):
                hooks[place.name.lower()] = HookCalls(self._house, place, self._clock)
        self._forms, self._hooks = forms, hooks
        boxes = [each.box if isinstance(each, PagedChat) else each for each in places.usable("chat")]
        self._desks = {
            each.page: DeskPages(self._house, each, workspace.people, self._clock)
            for each in boxes
            if isinstance(each, FolderChat) and each.page
        }
        if self.settings.board:
            self._board = BoardPages(self._house, workspace, self._clock, open_places, self._describe, self._wake)
        self._confirmations.serve(workspace.root, confirming, open_places)

    # --- open and shut

    def open(self) -> None:
        """Begins to listen. Raises PlaceTrouble where the port is taken."""
        settings = self.settings
        family = socket.AF_INET6 if ":" in settings.host else socket.AF_INET
        # asyncio sends at once where the protocol is named; without it each answer waits for an acknowledgement
        listening = socket.socket(family, socket.SOCK_STREAM, socket.IPPROTO_TCP)
        try:
            listening.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            listening.bind((settings.host, settings.port))
            listening.listen(1024)
        except OSError as error:
            listening.close()
            raise PlaceTrouble(
                f"cannot listen at {settings.host}:{settings.port}: {error.strerror}",
                where="[web]",
                fix="another program may be there already; give another one: listen = …",
            ) from error
        config = uvicorn.Config(
            self._app(),
            log_config=None,
            access_log=False,
            lifespan="off",
            proxy_headers=False,
            server_header=False,
            limit_concurrency=_MOST_CONNECTIONS,
            timeout_keep_alive=_QUIET_SECONDS,
            timeout_graceful_shutdown=15,
            h11_max_incomplete_event_size=32_000,
            ssl_certfile=str(self._folder / settings.certificate) if settings.certificate else None,
            ssl_keyfile=str(self._folder / settings.key) if settings.key else None,
        )
        try:
            config.load()
        except OSError as error:  # that of TLS is one too
            listening.close()
            said = f"the certificate cannot be used: {error.strerror or error}"
            raise PlaceTrouble(said, where="[web]", fix="look at certificate and key") from error
        self._intake.start()
        self._confirmations.start()
        self._server = server = uvicorn.Server(config)
        self._thread = threading.Thread(target=lambda: asyncio.run(server.serve([listening])), name="web", daemon=True)
        self._thread.start()

    def close(self) -> None:
        """Answers what is under way, and ends."""
        self._house.is_closing = True
        if self._server is not None:
            self._server.should_exit = True
            self._thread.join(20)
            self._intake.stop()
            self._confirmations.stop()

    def after_round(self, ledger: Ledger) -> None:
        """Tells those who wait what the workflows have looked at."""
        self.waiting.after_round(ledger)
        self._confirmations.wake()

    # --- answering

    def _app(self) -> ASGIApp:
        app = Starlette(
            routes=[
                Route("/style.css", self._style, methods=["GET"]),
                Route("/desk.js", self._script, methods=["GET"]),
                Route("/feeds/{token}/{file}", self._feeds.answer, methods=_METHODS),
                Route("/hooks/{name}/{token}", self._hook, methods=_METHODS),
                Route("/{path:path}", self._form, methods=_METHODS[:3]),
            ],
            exception_handlers={HTTPException: self._refused, Exception: self._unforeseen},
        )
        return _Guard(app, self._gate, self.settings)

    async def _style(self, request: Request) -> Response:
        data = (PAGES / "style.css").read_bytes()
        return Response(data, media_type="text/css", headers={"cache-control": "max-age=3600"})

    async def _script(self, request: Request) -> Response:
        data = (PAGES / "desk.js").read_bytes()
        return Response(data, media_type="text/javascript", headers={"cache-control": "max-age=3600"})

    async def _hook(self, request: Request) -> Response:
        name, token = request.path_params["name"], request.path_params["token"]
        is_known = self._house.is_of_hook(token, name)
        calls = self._hooks.get(name)
        if calls is None or not is_known:
            raise HTTPException(404)
        if request.method != "POST":
            raise HTTPException(405, "a hook is called by POST", {"allow": "POST"})
        try:
            return await calls.take(request)
        except HTTPException as error:
            await self._note_refused(name, error)
            raise

    async def _note_refused(self, name: str, error: HTTPException) -> None:
        """Remembers what was refused lately and why, to be shown by `places NAME`."""
        refused = {"at": self._clock.now().isoformat(), "status": error.status_code, "reason": error.detail}
        with contextlib.suppress(WhenvocaError):
            await self._house.intake.do(lambda ledger: note_refused(ledger, name, refused))

    async def _form(self, request: Request) -> Response:
        """A form by its path, or one entry of it by its private link."""
        path = request.url.path
        if path in self._forms:
            pages = self._forms[path]
            return await (pages.take(request) if request.method == "POST" else pages.show(request))
        base, _, rest = path.rpartition("/")
        for found, token, deed in ((base, rest, ""), (base.rpartition("/")[0], base.rpartition("/")[2], rest)):
            if found in self._desks:
                return await self._desks[found].answer(request, token, deed)
            if self._board is not None and found == self.settings.board:
                return await self._board.answer(request, token, deed)
        own, deed = (rest, "") if _OWN.fullmatch(rest) else (base.rpartition("/")[2], rest)
        base = base if not deed else base.rpartition("/")[0]
        pages_of = self._forms.get(base)
        if pages_of is None or not _OWN.fullmatch(own):
            raise HTTPException(404)
        request.path_params["own"] = own
        answering: dict[tuple[str, str], Answering] = {
            ("GET", ""): pages_of.look,
            ("GET", "calendar.ics"): pages_of.calendar,
            ("GET", "change"): pages_of.show_change,
            ("POST", "change"): pages_of.change,
            ("POST", "withdraw"): pages_of.withdraw,
        }
        method = "GET" if request.method == "HEAD" else request.method
        if (method, deed) not in answering:
            raise HTTPException(405 if deed in ("change", "withdraw") or not deed else 404)
        return await answering[method, deed](request)

    async def _refused(self, request: Request, error: Exception) -> Response:
        assert isinstance(error, HTTPException)
        said = error.detail if error.detail and error.status_code != 404 else "There is nothing here."
        if request.url.path.startswith("/hooks/"):
            return JSONResponse({"fault": said}, error.status_code, headers=error.headers)
        return self._house.render("said.html", status=error.status_code, title="That did not work", said=said)

    async def _unforeseen(self, request: Request, error: Exception) -> Response:
        if isinstance(error, WhenvocaError):
            self._trouble(f"web: {error.where}: {error.message}" if error.where else f"web: {error.message}")
            return PlainTextResponse("This cannot be kept just now. Please try again later.", 503)
        self._trouble(f"web: {tell_unforeseen(error)}")
        return PlainTextResponse("Something went wrong here. Nothing was kept; please try again.", 500)


class _Guard:
    """Stands before everything: puts the headers on each answer, and keeps floods away."""

    def __init__(self, app: ASGIApp, gate: Floodgate, settings: WebSettings) -> None:
        self._app, self._gate, self._settings = app, gate, settings

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """One request."""
        if scope["type"] != "http":
            return

        wanted = _HEADERS_OF_DATA if scope["path"].startswith("/hooks/") else _HEADERS  # no browser shows the others

        async def send_with_headers(message: Message) -> None:
            if message["type"] == "http.response.start":
                given = {name.lower() for name, _ in message["headers"]}
                message["headers"] = [*message["headers"], *[each for each in wanted if each[0] not in given]]
            await send(message)

        if scope["path"] not in ("/style.css", "/desk.js"):
            wait = self._gate.seconds_to_wait(sender_of(scope, self._settings.proxies))
            if wait:
                said = PlainTextResponse("Too many requests; please wait.", 429, {"retry-after": str(wait)})
                await said(scope, receive, send_with_headers)
                return
        await self._app(scope, receive, send_with_headers)
