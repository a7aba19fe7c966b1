"""Trains the judge of emails: which sentences of an email propose an event, each read by weights that never saw it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from email.utils import parsedate_to_datetime
from typing import Any

from msgspec.structs import replace

from tests.speech.fitting import fit_chance
from tests.speech.worlds import World, event_fits, load_world
from whenvoca.speech.emails import Proposal, proposals, readers
from whenvoca.speech.judging.judge import Weights, chance, score
from whenvoca.speech.judging.readings import TextReader
from whenvoca.speech.request import Surroundings
from whenvoca.speech.requests import plain_request


@dataclass
class Email:
    """One email with its gold; of each sentence that may propose something its marks, and whether that is right."""

    world: str
    item: Mapping[str, Any]
    marks: list[dict[str, float]]
    right: list[bool]

    @property
    def golds(self) -> list[Mapping[str, Any]]:
        """All that is right."""
        return [self.item["gold"], *(self.item.get("accept") or [])]


def load_emails(name: str, weights: Weights) -> list[Email]:
    """The emails of a world, as weights read them."""
    world = load_world(name)
    found = []
    for item in world.lines("letters"):
        some = proposals(unquoted(item["body"]), _around(item, world), item["subject"], weights)
        golds = [item["gold"], *(item.get("accept") or [])]
        wanted = [email_gold(each) for gold in golds if gold["intent"] == "create" for each in gold["events"]]
        right = [any(_fits(world, each, want) for want in wanted) for each in some]
        found.append(Email(name, item, [each.marks for each in some], right))
    return found


def email_readers(item: Mapping[str, Any], world: World) -> list[TextReader]:
    """Its sentences that name a day or a time, each with the subject before it."""
    return readers(unquoted(item["body"]), _around(item, world), item["subject"], {})


def _around(item: Mapping[str, Any], world: World) -> Surroundings:
    return replace(world.around, now=parsedate_to_datetime(item["date"]).astimezone(world.zone))


def email_gold(event: Mapping[str, Any]) -> dict[str, Any]:
    """An event of an email as one that a request asks for."""
    return {
        "all_day": len(event["start"]) == 10,
        "reminder_minutes": None,
        "attendees": [],
        **event,
        "attendees_soft": True,
    }


def unquoted(body: str) -> str:
    """A body without what it quotes."""
    return "\n".join(line for line in body.split("\n") if not line.startswith(">"))


def _fits(world: World, proposal: Proposal, want: Mapping[str, Any]) -> bool:
    got = plain_request(proposal.reader, proposal.draft).to_json()["events"][0]
    return event_fits(world, {**got, "reminders": [], "attendees": []}, {**want, "reminder_minutes": 0})


def fit_emails(emails: Sequence[Email]) -> dict[str, float]:
    """How surely a sentence proposes the event that it was read as."""
    rows = [marks for email in emails for marks in email.marks]
    return fit_chance(rows, [each for email in emails for each in email.right], restraint=20.0, least=4)


def outcome(email: Email, weights: Mapping[str, float], least: float, perhaps: float = 0.25) -> str:
    """What comes of an email: right, offered, asked, or wrong."""
    sure = [chance(score(weights, each)) for each in email.marks]
    acting = [n for n, each in enumerate(sure) if each >= least]
    open_ones = [n for n, each in enumerate(sure) if perhaps <= each < least]
    counts = {len(gold["events"]) if gold["intent"] == "create" else 0 for gold in email.golds}
    if open_ones:
        return "offered" if any(email.right[n] for n in [*acting, *open_ones]) else "asked"
    if not acting:
        return "right" if 0 in counts else "asked"
    return "right" if len(acting) in counts and all(email.right[n] for n in acting) else "wrong"


def least_sure(pairs: Sequence[tuple[Email, Mapping[str, float]]], most_wrong: float = 0.03) -> float:
    """The lowest sureness from which no more emails than that share are wrongly acted on."""
    for step in range(50, 100):
        least = step / 100
        wrong = sum(outcome(email, weights, least) == "wrong" for email, weights in pairs)
        if wrong <= most_wrong * len(pairs):
            return least
    return 1.0


def sureness(
    emails: Sequence[Email], folds: Sequence[str] = ("ACE", "DNG", "JKP", "QMR")
) -> list[tuple[Email, dict[str, float], float]]:
    """Each email with weights, and the least sureness, that never saw its world."""
    found = []
    for fold in folds:
        others = [each for each in emails if each.world not in fold]
        pairs: list[tuple[Email, Mapping[str, float]]] = []
        for inner in folds:
            if inner != fold:
                weights = fit_emails([each for each in others if each.world not in inner])
                pairs += [(each, weights) for each in others if each.world in inner]
        least, own = least_sure(pairs), fit_emails(others)
        found += [(each, own, least) for each in emails if each.world in fold]
    return found
