"""The steps `find emails in` and `file email in`."""

from __future__ import annotations

from typing import Any

from whenvoca.engine.acting.effect_kind import EffectKind, Inverse
from whenvoca.engine.acting.keyed import Acting
from whenvoca.engine.acting.step_call import StepCall
from whenvoca.engine.effects import Effect, show_brief
from whenvoca.engine.place_protocols import Found
from whenvoca.engine.things.email import EmailThing, email_type
from whenvoca.errors import RowFault
from whenvoca.language.definitions import FieldDefinition, Sentence, StepDefinition
from whenvoca.language.types import list_of
from whenvoca.steps.looking_up import WHERE
from whenvoca.steps.windows import check_window, window


def _find(call: StepCall) -> Acting:
    yield from ()
    low, high = window(call)

    def search() -> list[Found]:
        found = []
        for key, state in call.stage.emails(call.place):
            sent: Any = state.get("sent")
            if low is not None and (sent is None or sent < low or (high is not None and sent >= high)):
                continue
            thing = call.stage.email_thing(call.place, key)
            if thing is not None and call.where.fits(thing):
                found.append(Found(call.place, key, {}))
        return found

    things = [call.stage.email_thing(each.place, each.key) for each in call.where.recalled(search)]
    return [each for each in things if each is not None]


def _file(call: StepCall) -> Acting:
    email: Any = call.subject
    if not isinstance(email, EmailThing):
        raise RowFault("the workflow is not about an email")
    target = call.place
    if target.lower() == email.place.lower():
        return
    about = {"subject": email.value_of("subject")}
    data = call.stage.email(email.place, email.key)
    yield Effect(verb="put email", place=target, target=email.key, after=about, stored=data)
    name = call.stage.email_name(email.place, email.key)
    yield Effect(verb="take email away", place=email.place, target=email.key, before=about, version=name)


def _about(effect: Effect) -> str:
    return show_brief((effect.after or {}).get("subject") or (effect.before or {}).get("subject") or effect.target)


def _flagged(effect: Effect) -> bool:
    return "flagged" in (effect.after or {})


def _undo_filing(stage: Any, effect: Effect, left: list[str]) -> Inverse:
    yield Effect(
        verb="file email", place=effect.place, target=effect.target, before=effect.after, after=effect.before or {}
    )


FILE_EFFECT = EffectKind(
    verb="file email",
    line=lambda effect: (
        f"email in {effect.place} flagged"
        if _flagged(effect)
        else f"email in {effect.place} moved to {(effect.after or {}).get('folder') or 'where it was'}"
    ),
    target=lambda effect: show_brief(effect.target),
    detail=lambda effect: (
        "flagged" if _flagged(effect) else f"to {(effect.after or {}).get('folder') or 'where it was'}"
    ),
    invert=_undo_filing,
)
PUT_EFFECT = EffectKind(
    verb="put email",
    line=lambda effect: f"email filed in {effect.place}",
    target=_about,
    told_as=lambda effect: "a copy",
)
TAKE_EFFECT = EffectKind(
    verb="take email away",
    line=lambda effect: f"email taken away from {effect.place}",
    target=_about,
    told_as=lambda effect: "the email's old place",
)
FIND_EMAILS = StepDefinition(
    sentence=Sentence("find emails in MAILBOX"),
    meaning="Gives the emails of a mailbox that were seen, in the order they came: a list, perhaps empty.",
    fields=(
        WHERE,
        FieldDefinition("from", "moment", "Only those that were sent from then on.", example="today - 7 days"),
        FieldDefinition("until", "moment", "Only those that were sent before then.", example="today"),
    ),
    thing="email",
    looks_up=True,
    reads_only=True,
    makes=lambda place: list_of(email_type(place)),
    check_fields=check_window,
    example="find emails in post as asked\n  from   today - 7 days\n  until  today\n  where  sender is "
    '"ines@example.org"',
    act=_find,
)
FILE_EMAIL = StepDefinition(
    sentence=Sentence("file email in MAILBOX"),
    meaning="Puts the email into another mailbox, and takes it away from the one that it came to.",
    thing="email",
    effects=(PUT_EFFECT, TAKE_EFFECT, FILE_EFFECT),
    example="file email in answered-post",
    act=_file,
)
