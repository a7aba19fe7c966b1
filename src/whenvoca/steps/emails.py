"""The step `send email to`."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping
from typing import Any

from whenvoca.calendars.writer import write_calendar
from whenvoca.engine.acting.effect_kind import EffectKind
from whenvoca.engine.acting.keyed import Acting
from whenvoca.engine.acting.step_call import StepCall
from whenvoca.engine.effects import Effect, show_brief
from whenvoca.engine.things.event import EventThing
from whenvoca.errors import RowFault
from whenvoca.language.definitions import FieldDefinition, Sentence, StepDefinition
from whenvoca.language.faults import Spot
from whenvoca.steps.messages import message_number, name_addressee
from whenvoca.values.addresses import split_addresses, to_address
from whenvoca.values.kinds import is_empty
from whenvoca.values.texts import show_value


def _act(call: StepCall) -> Acting:
    to = _addresses(call, call.sentence_value)
    if not to:
        raise RowFault("nobody is named to whom the email goes", fix="give an address, or a name from [people]")
    person = call.people.find(to[0]) if len(to) == 1 else None
    zone = person.zone if person is not None else None
    after: dict[str, Any] = {"to": to, "subject": call.told("subject", zone), "text": call.told("text", zone)}
    for word in ("sender", "reply-to"):
        if call.text(word):
            after[word] = _addresses(call, call.value(word))[0]
    attached = _attached(call)
    if attached:
        after["attach"] = [title for title, _ in attached]
    kept = json.dumps([text for _, text in attached], ensure_ascii=False) if attached else ""
    outbox, occasion = _outbox(call), call.occasion(", ".join(to))
    if len(to) == 1:
        yield Effect(verb="send email", place=outbox, target=occasion, after=after, kept=kept)
        return
    refused: list[RowFault] = []
    for address in to:  # each by itself: who has it does not get it again because another one was refused
        target = f"{occasion} {address}"
        if call.stage.was_told(call.run, outbox, target):
            continue
        try:
            yield Effect(verb="send email", place=outbox, target=target, after={**after, "for": address}, kept=kept)
        except RowFault as fault:
            refused.append(fault)
    if refused:
        others = "nobody has the email" if len(refused) == len(to) else "the others have the email"
        raise RowFault(f"{'; '.join(each.message for each in refused)}; {others}", fix=refused[0].fix)


def _outbox(call: StepCall) -> str:
    """The outbox that the sentence names, else the only one."""
    if call.names_place:
        return call.place
    names = call.stage.outbox_names()
    if len(names) != 1:
        said = "there is no outbox" if not names else f"there are several outboxes: {', '.join(names)}"
        raise RowFault(said, fix="name one: send email to … in OUTBOX" if names else 'add a place of the kind "outbox"')
    return names[0]


def _addresses(call: StepCall, value: Any) -> list[str]:
    found: list[str] = []
    for item in value if isinstance(value, list | tuple) else [value]:
        text = "" if is_empty(item) else show_value(item)
        if any(ord(sign) < 32 for sign in text):
            raise RowFault(
                f'"{text.encode("unicode_escape").decode()}" is no address: a line ends in it',
                fix="correct it where it comes from",
            )
        for piece in split_addresses(text):
            address = to_address(call.people.to_address(piece))
            if not address:
                raise RowFault(
                    f'"{piece}" is neither an email address nor a name from [people] with one',
                    fix="correct it, or add the person",
                )
            found.append(address)
    return list(dict.fromkeys(found))


def _attached(call: StepCall) -> list[tuple[str, str]]:
    """Titles of the events that go with it, and each as an iCalendar object."""
    value = call.value("attach")
    found = []
    for thing in value if isinstance(value, list | tuple) else [] if value is None else [value]:
        if not isinstance(thing, EventThing):
            raise RowFault(f"{show_value(thing)} cannot go with an email", fix="attach takes an event, or several")
        stored = call.stage.find_event(thing.place, thing.key)
        whole = stored is not None and stored.event.occurrence is None
        data = stored.data if stored is not None and whole else write_calendar(thing.event, call.now)
        found.append((thing.event.title, data.decode("utf-8", "replace")))
    return found


def _check(given: Mapping[str, Spot]) -> Iterator[tuple[str, str, str]]:
    if "text" not in given and "attach" not in given:
        yield "", "the email says nothing", 'below it: text "…"'


def _detail(effect: Effect) -> str:
    after = effect.after or {}
    with_it = f" (with {', '.join(after['attach'])})" if after.get("attach") else ""
    return f"{after.get('subject')}: {show_brief(after.get('text'))}{with_it}"


EMAIL_EFFECT = EffectKind(
    verb="send email",
    line=lambda effect: f"email to {name_addressee(effect)}: {show_brief((effect.after or {}).get('subject'))}",
    target=name_addressee,
    detail=_detail,
    counts_as=("email",),
    counts_with=lambda effect: message_number(effect.target),
    told_as=lambda effect: f"the email to {show_value((effect.after or {}).get('to'))}",
)


def _step(words: str) -> StepDefinition:
    return StepDefinition(
        sentence=Sentence(words),
        meaning="Sends an email, with an event as an .ics part where one goes with it. It is sent once; after a crash "
        "it may be sent "
        "again, with the same Message-ID. To one person of [people], times are told in their zone.",
        fields=(
            FieldDefinition("subject", "text", "What it is about.", example='"Your visit to Larkmoor"'),
            FieldDefinition(
                "text", "text", "What it says.", example='"Dear {Name}, we expect you on {Day as "d MMMM"}."'
            ),
            FieldDefinition("attach", "value", "An event that goes with it, or several.", example="visit"),
            FieldDefinition("sender", "addresses", "Who sends it.", default="the outbox's from"),
            FieldDefinition("reply-to", "addresses", "Where answers go.", default="the sender"),
        ),
        value_type="addresses",
        is_told=True,
        effects=(EMAIL_EFFECT,),
        check_fields=_check,
        example='send email to Contact\n  subject  "Your visit to Larkmoor"\n  text     "We expect you on '
        '{visit.start as "d MMMM"}."\n'
        "  attach   visit",
        identity="send letter to",
        act=_act,
    )


SEND_EMAIL = _step("send email to ADDRESSES")
SEND_EMAIL_IN = _step("send email to ADDRESSES in OUTBOX")
