"""The step `send email to`."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any

from msgspec.structs import replace

from whenvoca.calendars.writer import write_calendar
from whenvoca.engine.acting.effect_kind import EffectKind
from whenvoca.engine.acting.keyed import Acting
from whenvoca.engine.acting.step_call import StepCall
from whenvoca.engine.effects import Effect, show_brief
from whenvoca.engine.mail_protocols import Enclosure
from whenvoca.engine.things.email import AttachmentThing
from whenvoca.engine.things.event import EventThing
from whenvoca.engine.things.report import ReportThing
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
    if copies := [each for each in _addresses(call, call.value("copies")) if each not in to]:
        after["copies"] = copies
    if call.value("html", False):
        after["html"] = True
    attached = attach(call)
    outbox, occasion = outbox_of(call), call.occasion(", ".join(to))
    if len(to) == 1 and not copies:
        yield with_attached(Effect(verb="send email", place=outbox, target=occasion, after=after), attached)
        return
    refused: list[RowFault] = []
    for address in (*to, *copies):  # each by itself: who has it does not get it again because another one was refused
        target = f"{occasion} {address}"
        if call.stage.was_told(call.run, outbox, target):
            continue
        try:
            effect = Effect(verb="send email", place=outbox, target=target, after={**after, "for": address})
            yield with_attached(effect, attached)
        except RowFault as fault:
            refused.append(fault)
    if refused:
        others = "nobody has the email" if len(refused) == len(to) else "the others have the email"
        raise RowFault(f"{'; '.join(each.message for each in refused)}; {others}", fix=refused[0].fix)


def outbox_of(call: StepCall) -> str:
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


def attach(call: StepCall) -> list[Enclosure]:
    """What goes with the email: events as iCalendar objects, what is attached to another email, files of the
    workspace. Raises RowFault for anything else."""
    value = call.value("attach")
    things = value if isinstance(value, list | tuple) else [] if value is None else [value]
    return [_enclosed(call, thing) for thing in things]


def _enclosed(call: StepCall, thing: Any) -> Enclosure:
    if isinstance(thing, EventThing):
        stored = call.stage.find_event(thing.place, thing.key) if thing.place else None
        whole = stored is not None and stored.event.occurrence is None
        data = stored.data if stored is not None and whole else write_calendar(thing.event, call.now)
        return Enclosure(thing.event.title, "text/calendar", data)
    if isinstance(thing, AttachmentThing):
        return Enclosure(thing.name, thing.kind, call.stage.attached(thing))
    if isinstance(thing, ReportThing):
        return Enclosure(Path(thing.file).name, "", thing.data)
    if isinstance(thing, str):
        return Enclosure(Path(thing).name, "", call.stage.workspace_file(thing))
    raise RowFault(
        f"{show_value(thing)} cannot go with an email",
        fix="attach takes events, attachments, reports and names of files",
    )


def with_attached(effect: Effect, attached: Sequence[Enclosure]) -> Effect:
    """The effect with what goes with it: events are journalled, so that what was sent can be looked up; files are
    read again where it is sent again."""
    if not attached:
        return effect
    events = [each.data.decode("utf-8", "replace") for each in attached if each.kind == "text/calendar"]
    after = {**(effect.after or {}), "attach": [each.name for each in attached]}
    kept = json.dumps(events, ensure_ascii=False) if events else ""
    others = [each for each in attached if each.kind != "text/calendar"]
    return replace(effect, after=after, kept=kept, stored=others or None)


def check_fields(given: Mapping[str, Spot]) -> Iterator[tuple[str, str, str]]:
    """An email says something, or something goes with it."""
    if "text" not in given and "attach" not in given:
        yield "", "the email says nothing", 'below it: text "…"'


def detail_of_email(effect: Effect) -> str:
    """What an email is about and says, in short."""
    after = effect.after or {}
    with_it = f" (with {', '.join(after['attach'])})" if after.get("attach") else ""
    return f"{after.get('subject')}: {show_brief(after.get('text'))}{with_it}"


EMAIL_EFFECT = EffectKind(
    verb="send email",
    line=lambda effect: f"email to {name_addressee(effect)}: {show_brief((effect.after or {}).get('subject'))}",
    target=name_addressee,
    detail=detail_of_email,
    counts_as=("email",),
    counts_with=lambda effect: message_number(effect.target),
    told_as=lambda effect: f"the email to {show_value((effect.after or {}).get('to'))}",
)


ATTACH = FieldDefinition(
    "attach",
    "value",
    "What goes with it: an event, an attachment of an email, a report, the name of a file in the workspace; or "
    "several.",
    example="visit",
)
HTML = FieldDefinition("html", "yes-no", "Whether the same stands in it as a page too, beside the text.", default="no")


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
            FieldDefinition("copies", "addresses", "Who gets a copy.", example='"tomas@example.org"'),
            HTML,
            ATTACH,
            FieldDefinition("sender", "addresses", "Who sends it.", default="the outbox's from"),
            FieldDefinition("reply-to", "addresses", "Where answers go.", default="the sender"),
        ),
        value_type="addresses",
        is_told=True,
        effects=(EMAIL_EFFECT,),
        check_fields=check_fields,
        example='send email to Contact\n  subject  "Your visit to Larkmoor"\n  text     "We expect you on '
        '{visit.start as "d MMMM"}."\n'
        "  attach   visit",
        identity="send letter to",
        act=_act,
    )


SEND_EMAIL = _step("send email to ADDRESSES")
SEND_EMAIL_IN = _step("send email to ADDRESSES in OUTBOX")
