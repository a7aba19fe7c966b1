"""Answers to what workflows ask: given on the command line, or asked for at the prompt."""

from __future__ import annotations

import functools
import sys
from collections.abc import Callable, Mapping, Sequence
from typing import Any
from zoneinfo import ZoneInfo

import click

from whenvoca.cli.show.output import say
from whenvoca.engine.acting.questions import Question, read_answer
from whenvoca.engine.running.run_options import Candidate, nobody_answers, nobody_picks
from whenvoca.errors import RequestFault
from whenvoca.language.blocks import iter_asks
from whenvoca.language.faults import nearest
from whenvoca.language.tree import Workflow
from whenvoca.values.texts import show_value


def give_option(function: Callable[..., Any]) -> Callable[..., Any]:
    """Adds --give, handed over as ``given``: texts by name."""

    @click.option(
        "--give",
        "gives",
        multiple=True,
        metavar="NAME=VALUE",
        help='An answer to what a workflow asks: --give span="45 minutes"; NAME=- reads it from standard input.',
    )
    @functools.wraps(function)
    def wrapped(*args: Any, gives: tuple[str, ...], **more: Any) -> Any:
        return function(*args, given=_read_gives(gives), **more)

    return wrapped


def _read_gives(gives: Sequence[str]) -> dict[str, str]:
    found: dict[str, str] = {}
    for each in gives:
        name, sign, value = each.partition("=")
        if not sign or not name.strip():
            raise RequestFault(f'--give: "{each}" is no answer', fix="written: --give NAME=VALUE")
        if value == "-":
            value = sys.stdin.read()
        if name.strip().lower() in found:
            raise RequestFault(f"--give: {name.strip()} is given twice")
        found[name.strip().lower()] = value
    return found


class Answers:
    """Who answers questions: what was given first, then whoever sits at the prompt, then the defaults."""

    def __init__(
        self, given: Mapping[str, str], workflows: Sequence[Workflow], zone: ZoneInfo, dates: str, *, may_ask: bool
    ) -> None:
        self._given, self._zone, self._dates = given, zone, dates
        self._may_ask = may_ask and sys.stdin.isatty()
        known = {ask.name for workflow in workflows for ask in iter_asks(workflow)} | {"clash"}
        for name in given:
            if name not in known:
                raise RequestFault(f'--give: nothing asks for "{name}"', fix=nearest(name, known))

    def answer(self, question: Question) -> Any:
        """The answer to a question. Raises RequestFault where it is none of its kind, or nobody gives one."""
        if question.name in self._given:
            return read_answer(question, self._given[question.name], self._zone, self._dates)
        if not self._may_ask:
            return nobody_answers(question)
        while True:
            shown = f"{question.text} ({', '.join(question.choices)})" if question.choices else question.text
            default = show_value(question.default) if question.default is not None else None
            text = click.prompt(shown, default=default, err=True)
            try:
                return read_answer(question, str(text), self._zone, self._dates)
            except RequestFault as fault:
                say(f"{fault.message}; {fault.fix}")

    def pick(self, what: str, candidates: Sequence[Candidate]) -> str:
        """The key of the subject that somebody chooses from a list."""
        if not self._may_ask:
            return nobody_picks(what, candidates)
        by_number = {each.number or n: each for n, each in enumerate(candidates, 1)}  # of rows as the sheet counts them
        for number, each in by_number.items():
            say(f"{number:4}  {each.said}")
        choices = click.Choice([str(number) for number in by_number])
        said = f"which {what}? (its number)"
        number = int(click.prompt(said, type=choices, show_choices=False, err=True))
        return by_number[number].key
