"""What requests and the runs that carry them out are called."""

from __future__ import annotations

from whenvoca.engine.effects import Effect
from whenvoca.engine.ledger.records import RunRecord
from whenvoca.speech.request import Request


def label_of(request: Request) -> str:
    """What a run that carries a request out is called."""
    titles = [each.title for each in request.events] or [each.event.title for each in request.targets]
    return titles[0] if len(titles) == 1 else f"{len(titles)} events: {', '.join(titles)}"[:120]


def label_of_run(record: RunRecord) -> str:
    """What a run did, for who asked for it."""
    if record.kind == "request":
        return record.label
    done = [effect for effect in record.effects if effect.verb.endswith(" event")]
    titles = [str((each.after or {}).get("title") or (each.before or {}).get("title") or each.target) for each in done]
    found = dict.fromkeys([_stored_title(each) or title for each, title in zip(done, titles, strict=True)])
    return ", ".join(found) or record.label


def _stored_title(effect: Effect) -> str:
    """The title in what stood there whole, for a change that did not touch it."""
    for line in effect.kept.splitlines():
        if line.startswith("SUMMARY") and ":" in line:
            return line.partition(":")[2].replace("\\,", ",").replace("\\;", ";")
    return ""
