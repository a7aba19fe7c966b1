"""The kinds of places there are. A new one is a folder with its ``kind.py``, and its line here."""

from whenvoca.places.calendar.kind import CALENDAR, TASKS
from whenvoca.places.chat.kind import CHAT
from whenvoca.places.form.kind import FORM
from whenvoca.places.hook.kind import HOOK
from whenvoca.places.mail.kind import OUTBOX
from whenvoca.places.mailbox.kind import MAILBOX
from whenvoca.places.place_kind import PlaceKind
from whenvoca.places.sheet.kind import SHEET

PLACE_KINDS: dict[str, PlaceKind] = {
    kind.name: kind for kind in (SHEET, CALENDAR, TASKS, CHAT, MAILBOX, OUTBOX, FORM, HOOK)
}
