"""The part of the tour in which others come by the web: the door is opened, its clock played, and really posted to."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any

import httpx

from whenvoca.cli.common import Common
from whenvoca.cli.show.effects import describe_run
from whenvoca.engine.running.run_options import RunOptions
from whenvoca.engine.running.run_workflows import run_workflows
from whenvoca.engine.workspace.ledger_home import hold_ledger
from whenvoca.open_workspace import OpenWorkspace
from whenvoca.web.addresses import address_of
from whenvoca.web.door import Door

_SECONDS = 20.0


def _nothing(text: str) -> None:
    """What goes wrong is in the answers."""


def post_to_the_door(
    folder: Path, now: str, visits: Sequence[tuple[str, Mapping[str, Any]]]
) -> Iterator[tuple[str, Mapping[str, Any], httpx.Response]]:
    """Posts each, a form's fields or a call's JSON by the name of its place, while the workflows run as they do in
    `watch`; answers address, what was posted, and the answer. Raises PlaceTrouble where the port is taken."""
    opened = Common(folder=folder, now=now).open()
    woken = threading.Event()
    with hold_ledger(opened.workspace, opened.clock, _nothing) as ledger:
        workflows = [each for each in opened.check().workflows if not each.settings.paused]
        door = Door(opened.workspace, opened.clock, _nothing, _nothing, describe_run, woken.set)
        door.serve(opened.workspace, opened.places, workflows)
        opened.places.listen(lambda place: woken.set())
        door.open()
        try:
            for name, given in visits:
                url = address_of(opened.workspace, opened.places.open_named(name))
                answers: list[httpx.Response] = []
                visitor = threading.Thread(target=_visit, args=(opened, name, url, given, answers.append))
                visitor.start()
                while visitor.is_alive():
                    if woken.wait(0.05):
                        woken.clear()
                        run_workflows(opened.stage(ledger), workflows, RunOptions(look=frozenset([name])))
                        door.after_round(ledger)
                yield url, given, answers[0]
        finally:
            door.close()
            opened.places.close()


def _visit(
    opened: OpenWorkspace, name: str, url: str, given: Mapping[str, Any], answer: Callable[[httpx.Response], None]
) -> None:
    with httpx.Client(timeout=_SECONDS, follow_redirects=True, trust_env=False) as client:
        if opened.places.kind_of(name) == "form":
            answer(client.post(url, data={"page": str(sorted(given.items())), **given}))
        else:
            answer(client.post(url, json=given, headers={"prefer": "wait=10"}))
