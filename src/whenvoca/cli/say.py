"""`whenvoca say`: a request in words, typed here, carried out and answered."""

from __future__ import annotations

from collections.abc import Sequence

import click

from whenvoca.cli.common import Common, common_options
from whenvoca.cli.show.effects import effect_to_json
from whenvoca.cli.show.output import console, say, say_next, show_json, styled
from whenvoca.cli.show.reading import show_reading
from whenvoca.engine.conversing.say import Answered, Talk
from whenvoca.engine.people import Person
from whenvoca.engine.workspace.ledger_home import open_ledger
from whenvoca.errors import ExitCode, RequestFault
from whenvoca.language.faults import nearest
from whenvoca.open_workspace import OpenWorkspace
from whenvoca.places.chat.folder import FolderChat

_MOST_SHOWN = 20


@click.command("say")
@click.argument("text", default="", metavar="[TEXT]")
@click.option("--as", "who", default="", metavar="PERSON", help="Who asks, of [people]; days and times are theirs.")
@click.option("--to", "room", default="", metavar="ROOM", help="A room of the stand-in chat: both sides stand in it.")
@click.option("--in", "calendars", multiple=True, metavar="CALENDAR", help="Only these; new events go into the first.")
@click.option("--explain", is_flag=True, help="Show how it was understood.")
@click.option("--leave", is_flag=True, help="Only say it in the stand-in chat: a workflow that hears it answers.")
@common_options
def command(
    common: Common, text: str, who: str, room: str, calendars: tuple[str, ...], explain: bool, leave: bool
) -> int:
    """Ask for a change of the calendars in your own words, or what is in them.

    One conversation per person and room: what was spoken of last is "it", a question waits for its answer, and "undo
    that" takes back what was done last. After half an hour of quiet it is forgotten. Exit status 4 where an answer is
    asked for. Without a text, --to shows the room.

    Example: whenvoca say "mirror wash thu 10:40" --in domes
    """
    opened = common.open(with_root=True)
    if not text.strip() and (leave or not room):
        raise RequestFault("say what is to be said", fix='such as: whenvoca say "anything tonight?"')
    person = _person(opened, who)
    chat = _chat_with(opened, room) if room or leave else None
    if not text.strip() and chat is not None:
        return _show_room(chat, room, common)
    if leave and chat is not None:
        return _leave(opened, chat, room, person, text, common)
    names = [_calendar(opened, name) for name in calendars] or list(opened.places.calendars)
    home = _home(opened, names, named=bool(calendars))
    with open_ledger(opened.workspace, opened.clock, say) as ledger:
        talk = Talk(opened.stage(ledger), names, home=home, person=person, room=room)
        if chat is not None:
            chat.post(room, _name_of(person), text, opened.clock.now(), answered=True)
        answered = talk.answer(text)
        if chat is not None:
            chat.post(room, chat.name_here, answered.reply, opened.clock.now(), answered=True)
    if common.as_json:
        show_json(answered_to_json(answered))
    else:
        if explain:
            show_reading(answered.request)
        console().print(answered.reply, soft_wrap=True)
        if answered.run and not answered.failed:
            say_next(f'whenvoca say "undo that", or whenvoca undo {answered.run}', quiet=common.quiet)
    if answered.failed:
        return ExitCode.FAILED
    return ExitCode.NEEDS_YES if answered.request.question else ExitCode.DONE


def _name_of(person: Person | None) -> str:
    return (person.chat or person.name) if person is not None else "somebody"


def _leave(opened: OpenWorkspace, chat: FolderChat, room: str, person: Person | None, text: str, common: Common) -> int:
    """Says something in the stand-in chat, and no more."""
    if person is None:
        raise RequestFault("--leave: who says it?", fix="--as PERSON")
    chat.post(room, _name_of(person), text, opened.clock.now(), answered=False)
    if common.as_json:
        show_json({"room": room or None, "from": person.name, "text": text})
    else:
        say(f"said in {room}" if room else f"said to {chat.name_here} alone")
        say_next("whenvoca run takes it up, if a workflow hears it", quiet=common.quiet)
    return ExitCode.DONE


def _show_room(chat: FolderChat, room: str, common: Common) -> int:
    """What was said in a room of the stand-in, the newest last."""
    messages = chat.messages("rooms", room)
    if common.as_json:
        show_json({"room": room, "messages": messages})
        return ExitCode.DONE
    shown = messages if common.verbose else messages[-_MOST_SHOWN:]
    if not messages:
        say(f"nothing was said in {room} yet")
    elif len(shown) < len(messages):
        say(f"{len(messages) - len(shown)} older ones: --verbose")
    for each in shown:
        at = str(each.get("at", ""))[:16].replace("T", " ")
        line = styled(f"{at}  {each.get('from', '')}  ", "dim")
        line.append(str(each.get("text", "")).replace("\n", "\n    "))
        console().print(line, soft_wrap=True)
    return ExitCode.DONE


def answered_to_json(answered: Answered) -> dict[str, object]:
    """As docs/json.md says."""
    done = [effect_to_json(effect) for effect in answered.effects]
    return {**answered.request.to_json(), "reply": answered.reply, "done": done, "run": answered.run or None}


def _person(opened: OpenWorkspace, who: str) -> Person | None:
    if not who:
        return None
    person = opened.workspace.people.find(who)
    if person is None:
        names = sorted(opened.workspace.people_names)
        raise RequestFault(f'--as: there is nobody called "{who}" in [people]', fix=nearest(who, names))
    return person


def _calendar(opened: OpenWorkspace, name: str) -> str:
    calendars = opened.places.calendars
    if name.lower() not in calendars:
        raise RequestFault(f'--in: there is no calendar "{name}"', fix=nearest(name, list(calendars)))
    return name.lower()


def _home(opened: OpenWorkspace, names: Sequence[str], *, named: bool) -> str:
    """Where new events go: the first one named, or the only one there is."""
    open_ones = [name for name in names if not opened.places.calendars[name].info().readonly]
    return open_ones[0] if open_ones and (named or len(open_ones) == 1) else ""


def _chat_with(opened: OpenWorkspace, room: str) -> FolderChat:
    chats = [chat for chat in opened.places.chats.values() if isinstance(chat, FolderChat)]
    found = [chat for chat in chats if not room or room in chat.rooms]
    if len(found) != 1:
        rooms = sorted({each for chat in chats for each in chat.rooms})
        said = "several stand-in chats have" if found else "no stand-in chat has"
        raise RequestFault(f'--to: {said} a room "{room}"', fix=f"rooms: {', '.join(rooms) or 'none'}")
    return found[0]
