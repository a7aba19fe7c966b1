"""From a text to a request: the form of its sentences says what is wanted, pieces and words fill it.

Where something needed is missing, or two readings are common, the request asks; it is never confidently wrong.
"""

from __future__ import annotations

from msgspec.structs import replace

from whenvoca.speech import answering, asking, changing, deleting
from whenvoca.speech.context import Context
from whenvoca.speech.creating import create, title_and_place
from whenvoca.speech.lexicon import ASKING, CORRECTING, IT, MODALS, NEW, VERB_OF, VERBS
from whenvoca.speech.request import Request, Surroundings
from whenvoca.speech.sentence import Clause, find_clause, split_sentences
from whenvoca.speech.statements import moved_up, tell
from whenvoca.speech.words import Word, is_one_off, slipped, spelled, split_words

_SHORT = 8  # words of an answer
_REMINDING = {
    "set",
    "add",
    "make",
    "create",
    "put",
    "a",
    "an",
    "remind",
    "reminder",
    "alarm",
    "alert",
    "me",
    "us",
    "about",
    "of",
    "to",
    "for",
    "that",
    ":",
}
_SHORT_VERBS = frozenset({"book", "move", "push", "make", "drop", "skip", "wipe"})
_INNER = {"start": "start", "begin": "start", "end": "end", "finish": "end", "last": "last"}  # make the call end at 3
_KNOWN_VERBS = frozenset(VERB_OF)


def understand(text: str, around: Surroundings) -> Request:
    """The request in a text. Never raises; a text of any kind gives an answer in bounded time."""
    request = _understand(text, around)
    request.text, request.today = text, around.now.astimezone(around.zone).date()
    return request


def _asked(words: list[Word]) -> list[Word]:
    """The words with a slip in the first one mended where it can only be a question: whst is on friday."""
    if (
        len(words) < 3
        or words[0].low in ASKING
        or words[1].low not in ("is", "are", "do", "does", "time", "have", "did")
    ):
        return words
    near = [each for each in ("what", "when", "where", "which") if is_one_off(words[0].low, each)]
    if len(near) != 1 or len(words[0].low) < 3:
        return words
    return [Word(words[0].text, near[0], words[0].begin, words[0].end), *words[1:]]


def _understand(text: str, around: Surroundings) -> Request:
    words = _asked(split_words(text))
    if not words:
        return Request("none")
    pending = around.pending
    if (
        pending is not None
        and pending.purpose == "change"
        and pending.missing != ["which"]
        and pending.text
        and len(words) <= _SHORT
    ):
        filled = _understand(f"{pending.text} {text}", replace(around, pending=None))
        if filled.intent == "change":
            filled.text = f"{pending.text} {text}"
            return filled
    whole = Context(words, around)
    if (short := answering.short_answer(whole)) is not None:
        return short
    sentences = split_sentences(words)
    if len(sentences) == 1:
        return _read(whole, filling=True)
    found = [_read(Context(_part(words, *each), around)) for each in sentences]
    wanted = [each for each in found if each.intent != "none"]
    return _together(wanted) if wanted else _read(whole, filling=True)


def _part(words: list[Word], begin: int, end: int) -> list[Word]:
    return words[begin:end]


def _together(found: list[Request]) -> Request:
    """Several sentences as one request: new events together; else one wish, the others being courtesy or its
    reasons."""
    if len(found) == 1:
        return found[0]
    if all(each.intent == "create" for each in found):
        first = found[0]
        for other in found[1:]:
            first.events += other.events
            first.because += other.because
        return first
    sure = [each for each in found if each.intent not in ("ask", "query", "free")]
    if len(sure) == 1 and all(each.intent != "ask" or each is sure[0] for each in found):
        return sure[0]
    if len({each.intent for each in found}) == 1 and found[0].intent in ("query", "free"):
        return found[0]
    request = Request("ask", because=found[0].because)
    request.question, request.missing = "That is more than one request. Which one first, please?", ["which"]
    return request


def _read(context: Context, *, filling: bool = False) -> Request:
    """One sentence."""
    around = context.around
    clause = find_clause(context.words)
    if around.last and (corrected := _corrected(context, clause)) is not None:
        return corrected
    if clause.begin >= clause.end:
        return Request("none")
    if clause.is_forbidding:
        return Request("none", because=context.request.because)
    if filling and (filled := answering.fill(context)) is not None and not _verb(context.lows[clause.begin]):
        return filled
    begin, end = clause.begin, clause.end
    if (moved := moved_up(context, begin, end)) is not None:
        return moved
    if (
        len(around.last) == 1
        and around.pending is None
        and (added := changing.fragment(context, begin, end)) is not None
    ):
        return added
    intent, verb, behind = _command(context, begin, end)
    head = context.lows[begin]
    is_question = (
        clause.is_question
        or (
            head in ASKING
            and not (
                head == "read" and context.lows[begin + 1 : begin + 2][:1] not in (["me"], ["out"], ["my"], ["us"])
            )
        )
        or (head in MODALS and head != "may")
        or context.lows[begin : begin + 2] == ["until", "when"]
        or clause.mood == "know"
        or bool({"agenda", "schedule", "calendar"} & set(context.lows[begin : begin + 2]))
        or _is_day_alone(context, clause)
    )
    if intent == "delete":
        return changing.people(context, verb, behind, end) or deleting.delete(context, verb, behind, end)
    if intent == "change":
        return changing.people(context, verb, behind, end) or changing.change(context, verb, behind, end)
    if intent == "create":
        return _create(context, verb, behind, end, is_wanted=True)
    is_had = clause.mood in ("have", "want")
    if clause.mood == "want" and clause.is_question and context.pieces(begin, end).whens:
        return asking.free(context, begin, end, context.pieces(begin, end))
    if is_question and not (is_had and not clause.is_question):
        asked = asking.ask(context, begin, end, wants_to_know=clause.mood == "know")
        return (
            _offered(context, begin, end)
            if asked.intent == "none" and head not in ASKING and clause.is_question
            else asked
        )
    if (told := tell(context, begin, end, is_had=is_had)) is not None:
        return told
    is_wanted = clause.mood == "want" or (clause.mood == "have" and bool(context.pieces(begin, end).whens))
    return _create(context, "", begin, end, is_wanted=is_wanted)


def _offered(context: Context, begin: int, end: int) -> Request:
    """A tour friday at 10? It may be asked for: nothing is made before a yes."""
    request = create(context, begin, end, is_wanted=False)
    if request.intent != "create":
        return Request("none", because=request.because)
    request.question, request.missing, request.purpose, request.intent = (
        "Shall I put it in? (yes or no)",
        ["yes"],
        "create",
        "ask",
    )
    return request


def _is_day_alone(context: Context, clause: Clause) -> bool:
    """Tomorrow; first free hour on friday: what is on then, or free."""
    lows = context.lows[clause.begin : clause.end]
    if (
        "free" in lows
        and {"hour", "hours", "day", "days", "slot", "time", "afternoon", "morning", "evening"} & set(lows)
        and len(lows) < 8
    ):
        return lows[0] in ("first", "next", "free", "any", "the")
    if len(lows) > 4 or context.around.pending is not None:
        return False
    pieces = context.pieces(clause.begin, clause.end)
    days = [each for each in pieces.whens if each.days is not None and each.from_ is None]
    return len(days) == 1 and len(pieces.whens) == 1 and len(pieces.claimed) == len(lows) and not pieces.repeat


def _verb(low: str) -> str:
    found = spelled(low, _KNOWN_VERBS)
    return VERB_OF[found] if found else ""


def _command(context: Context, begin: int, end: int) -> tuple[str, str, int]:
    """What the head of a clause orders: the intent, its verb, and behind which word it stands; empty for no order."""
    core = context.lows[begin:end]
    head = spelled(core[0], _KNOWN_VERBS) or (slipped(core[0], _SHORT_VERBS) if len(core) > 2 else "") or core[0]
    intent = VERB_OF.get(head, "")
    following = core[1] if len(core) > 1 else ""
    words = set(core)
    is_about_it = following in IT
    knows = bool(context.locked)
    if begin in context.locked:
        return "", "", begin
    if core[:2] == ["free", "up"]:
        return "delete", "clear", begin + 2
    if core[:3] == ["get", "rid", "of"]:
        return "delete", "delete", begin + 3
    if head == "call":
        if "off" in core[1:2] or core[-1] == "off":
            return "delete", "call", begin + 1
        is_naming = (is_about_it and bool(context.around.last) and len(core) > 2) or (
            knows and begin + 1 <= min(context.locked) <= begin + 2
        )
        return ("change", "call", begin + 1) if is_naming else ("", "", begin)
    if head == "put" and following in ("me", "us") and core[2:4] == ["down", "for"]:
        return "create", head, begin + 4
    if head == "block" and following in ("out", "off"):
        return "create", head, begin + 2
    if head in ("squeeze", "pop", "stick", "slot", "fit") and (following == "in" or "in" in core[2:]):
        return "create", head, begin + 1 + (following == "in")
    if head in ("put", "set", "add") and following in ("in", "up", "down") and len(core) > 2:
        return "create", head, begin + 2
    if head in ("pencil", "jot", "note", "write") and following in ("in", "down"):
        return "create", head, begin + 2
    if head in ("remind", "reminder", "alarm", "alert") or (words & {"reminder", "alarm", "alert"} and intent):
        return _of_reminder(context, begin, end)
    if head in ("take", "kick") and words & {"off", "out"}:
        return "delete", "take", begin + 1
    if head == "take" and "from" in words:
        return "delete", "take", begin + 1
    inner = max(context.locked) + 1 if knows else end
    if head in ("make", "let", "have") and inner < end and context.lows[inner] in _INNER:
        return "change", _INNER[context.lows[inner]], begin + 1
    if head == "give" and knows:
        return "change", "extend", begin + 1
    if head in ("ask", "tell", "get") and words & {"join", "attend", "come"}:
        return "change", "invite", begin + 1
    if head in (
        "start",
        "begin",
        "end",
        "finish",
        "cut",
        "trim",
        "swap",
        "show",
        "keep",
        "have",
        "do",
        "take",
        "hold",
        "get",
        "leave",
        "let",
    ):
        if head == "show" and not (words & {"free", "busy", "tentative"} and knows):
            return "", "", begin
        if knows and min(context.locked) <= begin + 2 and head not in ("do", "get", "leave", "let"):
            return "change", head, begin + 1
        if knows and head in ("do", "have", "hold") and words & {"instead", "earlier", "later"}:
            return "change", "move", begin + 1
        is_order = head in ("have", "do", "hold", "get") and begin > 0
        return ("create", head, begin + 1) if is_order else ("", "", begin)
    if head in ("push", "bring", "move", "put", "shift", "pull") and following in ("back", "forward", "off"):
        return "change", head, begin + 2
    if head in ("push", "put", "bring", "move", "shift", "make", "set"):
        goes = bool(words & {"back", "forward", "off", "earlier", "later", "longer", "shorter", "sooner"})
        if (
            is_about_it
            or goes
            or (knows and head in ("put", "set", "make") and _is_about_standing(context, begin, end))
        ):
            return "change", head, begin + 1
    if head == "bring" and intent == "change" and not knows:
        return "create", head, begin + 1
    if intent == "create" and core[0] in NEW:
        return "create", core[0], begin + 1
    return (intent, head, begin + 1) if intent else ("", "", begin)


def _is_about_standing(context: Context, begin: int, end: int) -> bool:
    """Whether put or set speaks of an event that stands: its title is said first, and what follows is no title."""
    first, last = min(context.locked), max(context.locked)
    if first > begin + 2 and not ({"of", "place", "location", "title", "time"} & set(context.lows[begin:first])):
        return False
    pieces = context.pieces(last + 1, end)
    has_day = any(each.days is not None and each.from_ is not None for each in pieces.whens)
    return not has_day or "instead" in context.lows


def _of_reminder(context: Context, begin: int, end: int) -> tuple[str, str, int]:
    """Remind me 10 minutes before the call changes its alarm; remind me to call at 4 is a new event."""
    pieces = context.pieces(begin, end)
    core = context.lows[begin:end]
    if pieces.reminder is not None and (context.locked or {"before", "earlier", "ahead"} & set(core)):
        is_new = any(each.from_ is not None and each.days is not None for each in pieces.whens)
        if not is_new:
            return "change", "remind", begin
    skip = begin
    while skip < end and context.lows[skip] in _REMINDING:
        skip += 1
    return "create", "remind", skip


def _create(context: Context, verb: str, begin: int, end: int, *, is_wanted: bool) -> Request:
    """A new event; put and add may also give a place or people to one that stands."""
    if verb in ("add", "invite", "put") and (request := changing.people(context, verb, begin, end)) is not None:
        return request
    if is_wanted and verb in VERBS["create"]:
        pieces = context.pieces(begin, end)
        title, place = title_and_place(pieces)
        is_place = bool(title and place) and not pieces.whens and not pieces.repeat
        if is_place and (given := changing.give_place(context, title, place)) is not None:
            return given
    return create(context, begin, end, is_wanted=is_wanted)


def _corrected(context: Context, clause: Clause) -> Request | None:
    """No, 4pm; an hour later: a correction of what was spoken of last."""
    lows = context.lows
    first = next((i for i, low in enumerate(lows) if low not in (",", "oh", "hm", "ok", "please")), 0)
    begin = first
    is_correcting = lows[first] in CORRECTING
    while begin < clause.end and (lows[begin] in CORRECTING or lows[begin] in (",", "i", "meant", "mean")):
        if lows[begin] == "not":
            break
        begin += 1
    if clause.is_question or begin >= clause.end:
        return None
    if not is_correcting and not {"earlier", "later"} & set(lows[-3:]):
        return None
    return changing.correct(context, begin, clause.end)
