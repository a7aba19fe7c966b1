"""`whenvoca watch`: keeps taking up what is waiting, as it comes."""

from __future__ import annotations

import contextlib
import io
import json
from collections.abc import Callable
from datetime import datetime
from importlib.util import find_spec
from typing import TYPE_CHECKING
from zoneinfo import ZoneInfo

import click

from whenvoca.cli.common import Common, common_options, parse_moment
from whenvoca.cli.show.effects import describe_effect, describe_run
from whenvoca.cli.show.outcome import run_to_json
from whenvoca.cli.show.output import OUTCOME_STYLES, console, say, styled
from whenvoca.engine.ledger.protocol import Ledger
from whenvoca.engine.ledger.records import Job
from whenvoca.engine.running.outcome import Outcome, RunResult
from whenvoca.engine.seeing.renamed_workflows import find_renamed
from whenvoca.engine.watching.watching import Loaded, Watch
from whenvoca.engine.workspace.ledger_home import hold_ledger
from whenvoca.engine.workspace.watch_status import WAKE_FILE
from whenvoca.errors import ExitCode, RequestFault, SettingsFault
from whenvoca.open_workspace import OpenWorkspace
from whenvoca.places.file_watcher import FileWaker
from whenvoca.values.durations import Duration, show_duration

if TYPE_CHECKING:
    from whenvoca.web.door import Door


@click.command("watch")
@click.option(
    "--until",
    default="",
    metavar="MOMENT",
    help='Stop then: --until "2027-03-18 04:00". With --now that time is played.',
)
@click.option("--once", is_flag=True, help="Look once at everything that is due, and stop.")
@common_options
def command(common: Common, until: str, once: bool) -> int:
    """Keep taking up what is waiting: changed files and calendars, starts of events, the clock.

    One line an occurrence, to be read the next morning. Ctrl-C and SIGTERM finish the step at hand and stop. Other
    commands may be used meanwhile: they hand their work over. With --now and --until the clock is played from moment to
    moment.

    Example: whenvoca watch
    """
    opened = common.open(with_root=True)
    zone = opened.workspace.zone
    ends = parse_moment(until, zone, "--until") if until else None
    if common.now and ends is None and not once:
        raise RequestFault("a clock that is played needs an end", fix='--until "2027-03-18 04:00", or --once')
    waker = FileWaker(opened.workspace.make_state_folder().absolute() / WAKE_FILE)
    told = _Log(common, zone)
    with hold_ledger(opened.workspace, opened.clock, say) as ledger:
        waker.heed_signals()
        door = _door(opened, told, lambda: waker.poke(""))
        loading = _Loader(common, opened, ledger, door)
        watch = Watch(
            load=loading,
            ledger=ledger,
            clock=opened.clock,
            waker=waker,
            told=told,
            do_job=lambda job: _do(job, loading.opened),
            after_round=door.after_round if door is not None else lambda ledger: None,
            until=ends,
            once=once,
        )
        told.note(f"watching {opened.workspace.name}; Ctrl-C stops")
        try:
            if door is not None:
                door.open()
                told.note(f"listening at {door.settings.shown}")
            went_well = watch.work()
        finally:
            waker.close()
            if door is not None:
                door.close()
            loading.opened.places.close()
        told.note("stopped")
    return ExitCode.DONE if went_well else ExitCode.FAILED


def _door(opened: OpenWorkspace, told: _Log, wake: Callable[[], None]) -> Door | None:
    """The door on the web, where the workspace has one and something to serve. Raises SettingsFault."""
    web, tables = opened.workspace.web, opened.workspace.places.values()
    is_any = any(each.get("kind") in ("form", "hook") or each.get("feed") or each.get("page") for each in tables)
    if web is None or not (is_any or web.board):
        return None
    if find_spec("uvicorn") is None:
        raise SettingsFault("forms and hooks need uvicorn and starlette", fix="pip install 'whenvoca[web]'")
    from whenvoca.web.door import Door

    def trouble(text: str) -> None:
        told.trouble(text, opened.clock.now())

    return Door(opened.workspace, opened.clock, told.note, trouble, describe_run, wake)


class _Loader:
    """Reads the workspace anew when its files have changed. What may be another one's workflow does not run."""

    def __init__(self, common: Common, opened: OpenWorkspace, ledger: Ledger, door: Door | None) -> None:
        self.opened = opened
        self._common, self._ledger, self._door = common, ledger, door
        self._is_fresh = True

    def __call__(self) -> Loaded:
        """The workspace as its files stand now, with the connections that it had. Raises SettingsFault."""
        if not self._is_fresh:
            before, self.opened = self.opened, self._common.open_again(self.opened)
            self.opened.places.take_over(before.places)
        self._is_fresh = False
        opened, ledger = self.opened, self._ledger
        result = opened.check()
        faulty = {fault.file for fault in result.hard_faults}
        sound = [each for each in result.workflows if each.file not in faulty and not each.settings.paused]
        faults = [f"{fault.where}: {fault.message}" for fault in result.hard_faults]
        renamed = find_renamed(ledger, sound, opened.names(), opened.workspace.places)
        faults += [f"{each.said}; {each.fix}, or run it once with --yes" for each in renamed]
        sound = [each for each in sound if each not in [one.workflow for one in renamed]]
        if self._door is not None and opened.workspace.web != self._door.settings:
            faults.append("whenvoca.toml: [web] has changed; the door stays as it was until watch is started again")
        if self._door is not None:
            self._door.serve(opened.workspace, opened.places, sound)
        return Loaded(opened.stage(ledger), sound, faults)


def _do(job: Job, opened: OpenWorkspace) -> tuple[int, str, str]:
    """Carries out what another process handed over, by the connections that there are; answers what it would have
    printed."""
    from whenvoca.cli.main import run_command

    out, err = io.StringIO(), io.StringIO()
    with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
        code = run_command([*job.arguments], connected=opened)
    return int(code), out.getvalue(), err.getvalue()


class _Log:
    """One line an occurrence: when, what it was about, how it went, what was done."""

    def __init__(self, common: Common, zone: ZoneInfo) -> None:
        self._common, self._zone = common, zone

    def outcome(self, outcome: Outcome, at: datetime) -> None:
        """What one round did."""
        for result in outcome.results:
            if self._common.as_json:
                self._line({"at": at.astimezone(self._zone).isoformat(), **run_to_json(result)})
            else:
                self._show(result, at)

    def _show(self, result: RunResult, at: datetime) -> None:
        line = styled("", "")
        line.append(f"{at.astimezone(self._zone):%Y-%m-%d %H:%M:%S}  ", "dim")
        line.append(f"{result.outcome:8}", OUTCOME_STYLES.get(result.outcome, ""))
        line.append(f"{result.workflow} · {result.label}")
        done = "; ".join(describe_effect(effect).replace("\n", " / ") for effect in result.effects)
        said = result.reason if result.outcome != "done" else "; ".join(part for part in (result.reason, done) if part)
        if said:
            line.append(f": {said}")
        console().print(line, soft_wrap=True)

    def trouble(self, text: str, at: datetime, since: datetime | None = None) -> None:
        """Something is wrong, or right again what was wrong since then."""
        when = at.astimezone(self._zone)
        if self._common.as_json:
            lasted = None if since is None else round((at - since).total_seconds())
            self._line({"at": when.isoformat(), "trouble": text, "is_over": since is not None, "seconds": lasted})
            return
        said = text
        if since is not None:
            lasted = max(1, round((at - since).total_seconds()))
            said = f"right again after {show_duration(Duration(seconds=lasted))}: {text}"
        say(f"{when:%Y-%m-%d %H:%M:%S}  {said}", style="red" if since is None else "green")

    def note(self, text: str) -> None:
        """Anything else worth a line."""
        if not self._common.quiet and not self._common.as_json:
            say(text)

    def _line(self, data: dict[str, object]) -> None:
        click.echo(json.dumps(data, ensure_ascii=False, default=str))
