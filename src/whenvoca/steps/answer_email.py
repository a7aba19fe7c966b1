"""The steps `answer email`: one answer in the thread of an email, never to a program, never two different ones."""

from __future__ import annotations

import hashlib
from datetime import UTC, datetime
from typing import Any

from whenvoca.engine.acting.effect_kind import EffectKind
from whenvoca.engine.acting.keyed import Acting
from whenvoca.engine.acting.step_call import StepCall
from whenvoca.engine.effects import Effect
from whenvoca.engine.ledger.protocol import Ledger
from whenvoca.engine.ledger.records import Occurrence
from whenvoca.engine.lineage import Lineage
from whenvoca.engine.things.email import EmailThing
from whenvoca.errors import RowFault
from whenvoca.language.definitions import FieldDefinition, Sentence, StepDefinition
from whenvoca.steps.emails import ATTACH, HTML, attach, check_fields, detail_of_email, outbox_of, with_attached
from whenvoca.steps.messages import name_addressee
from whenvoca.values.addresses import to_address

MOST_A_DAY = 10  # answers to one address: two programs that answer each other end here


def _act(call: StepCall) -> Acting:
    email: Any = call.subject
    if not isinstance(email, EmailThing):
        raise RowFault("the workflow is not about an email")
    if email.value_of("automatic"):
        return  # a program does not wait for an answer, and may send one of its own
    to = to_address(email.reply_to)
    if not to:
        raise RowFault("the email has no sender who could be answered", where=email.where_is(""))
    person = call.people.find(to)
    attached = attach(call)
    text = call.told("text", person.zone if person is not None else None)
    if not text.strip() and not attached:
        return
    outbox = outbox_of(call)
    after: dict[str, Any] = {
        "to": [to],
        "subject": _answered_subject(str(email.value_of("subject") or "")),
        "text": text,
        "in-reply-to": email.key,
        "references": [*email.references, email.key],
    }
    if sender := _written_to(email, call.stage.sender_of(outbox)):
        after["sender"] = sender
    if call.value("html", False):
        after["html"] = True
    said = _said(after, [each.name for each in attached])
    once = f"answer {email.key}"
    before = call.stage.said_before(outbox, once)
    if before == said:
        return  # it has been sent
    if before:
        raise RowFault(
            "the email was answered already, in other words; a second answer is not sent",
            where=email.where_is(""),
            fix="write to its sender: send email to email.sender",
        )
    day = _day(call.now)
    if not call.stage.may_answer(outbox, to, day, MOST_A_DAY):
        raise RowFault(
            f"{to} got {MOST_A_DAY} answers today; no more are sent, in case two programs answer each other",
            fix="look at what comes from there, then: whenvoca retry tomorrow",
        )
    root = call.stage.workspace.root
    number = Lineage(root, "answers", email.key, "answer email").to_uid(1)
    yield with_attached(Effect(verb="answer email", place=outbox, target=number, after=after), attached)
    call.stage.note_said(outbox, once, said)


def _day(moment: datetime) -> str:
    return f"{moment.astimezone(UTC):%Y-%m-%d}"


def _answered_subject(subject: str) -> str:
    return subject if subject.lower().startswith("re:") else f"Re: {subject}".strip()


def _written_to(email: EmailThing, sender: str) -> str:
    """The address of ours that the email was written to: one at the domain that emails go out from."""
    domain = sender.rpartition("@")[2].lower()
    ours = [
        each for each in (*email.value_of("to"), *email.value_of("copies")) if str(each).lower().endswith(f"@{domain}")
    ]
    return "" if sender.lower() in [each.lower() for each in ours] else next(iter(ours), "")


def _said(after: dict[str, Any], attached: list[str]) -> str:
    """What tells one answer from another."""
    return hashlib.sha256("\n".join([after["text"], *attached]).encode()).hexdigest()[:16]


def _note(ledger: Ledger, number: int, occurrence: Occurrence, effect: Effect) -> None:
    """Remembers what was answered, and that its sender got one more answer that day."""
    after = effect.after or {}
    at, day = occurrence.at, _day(datetime.fromisoformat(occurrence.at))
    said = _said(after, list(after.get("attach") or []))
    ledger.remember_once(effect.place, f"answer {after['in-reply-to']}", said, at)
    address, count = after["to"][0].lower(), 1
    while ledger.taken_before(effect.place, f"answered {day} {address} {count}") is not None:
        count += 1
    ledger.remember_once(effect.place, f"answered {day} {address} {count}", effect.target, at)


ANSWER_EFFECT = EffectKind(
    verb="answer email",
    line=lambda effect: f"answer to {name_addressee(effect)}: {(effect.after or {}).get('subject')}",
    target=name_addressee,
    detail=detail_of_email,
    counts_as=("email",),
    told_as=lambda effect: f"the answer to {name_addressee(effect)}",
    note=_note,
)


def _step(words: str) -> StepDefinition:
    return StepDefinition(
        sentence=Sentence(words),
        meaning="Answers the email in its thread, from the address that it was written to. A program that has sent it "
        f"gets no answer, nobody gets two different answers to one email, and one address {MOST_A_DAY} answers a day "
        "at most. It is sent once; after a crash it may be sent again, with the same Message-ID. To somebody of "
        "[people], times are told in their zone.",
        fields=(
            FieldDefinition("text", "text", "What it says.", example='"We expect you on {Day as "d MMMM"}."'),
            ATTACH,
            HTML,
        ),
        thing="email",
        is_told=True,
        effects=(ANSWER_EFFECT,),
        check_fields=check_fields,
        example='answer email\n  text    "We have pencilled you in for {visit.start as "d MMMM, HH:mm"}."\n'
        "  attach  visit",
        act=_act,
    )


ANSWER_EMAIL = _step("answer email")
ANSWER_EMAIL_IN = _step("answer email in OUTBOX")
