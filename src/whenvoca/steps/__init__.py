"""Steps: one file a step family, each a definition with what it does. ``STEPS`` lists them all."""

from whenvoca.language.definitions import StepDefinition
from whenvoca.steps.add_row import ADD_ROW
from whenvoca.steps.add_travel import ADD_TRAVEL
from whenvoca.steps.answer_email import ANSWER_EMAIL, ANSWER_EMAIL_IN
from whenvoca.steps.answer_invitation import ANSWER_INVITATION
from whenvoca.steps.answer_message import ANSWER, REPLY
from whenvoca.steps.attachments import READ_CALENDAR, READ_SHEET, SAVE
from whenvoca.steps.call import CALL
from whenvoca.steps.change_event import CHANGE_EVENT, CHANGE_EVENT_IN, CHANGE_EVENTS
from whenvoca.steps.change_row import CHANGE_ROW, CHANGE_ROW_IN
from whenvoca.steps.create_event import CREATE_EVENT
from whenvoca.steps.delete_event import DELETE_EVENT, DELETE_EVENT_IN, DELETE_EVENTS
from whenvoca.steps.delete_row import DELETE_ROW, DELETE_ROW_IN
from whenvoca.steps.emails import SEND_EMAIL, SEND_EMAIL_IN
from whenvoca.steps.fill_sheet import FILL_SHEET
from whenvoca.steps.find_attendees import FIND_ATTENDEES
from whenvoca.steps.find_clashes import FIND_CLASHES
from whenvoca.steps.find_events import FIND_EVENT, FIND_EVENTS
from whenvoca.steps.find_free_time import FIND_FREE_TIME
from whenvoca.steps.find_rows import FIND_ROW, FIND_ROWS
from whenvoca.steps.keep_invitation import KEEP_INVITATION
from whenvoca.steps.mailboxes import FILE_EMAIL, FIND_EMAILS
from whenvoca.steps.messages import SEND_TO_PERSON, SEND_TO_ROOM
from whenvoca.steps.mirror_event import MIRROR_EVENT, MIRROR_TASK
from whenvoca.steps.mirror_row import MIRROR_ROW
from whenvoca.steps.number_events import NUMBER_EVENTS
from whenvoca.steps.presence import RESTORE_PRESENCE, SET_PRESENCE
from whenvoca.steps.publish_free_time import PUBLISH_FREE_TIME
from whenvoca.steps.read_events import READ_EVENT, READ_EVENTS
from whenvoca.steps.read_fields import READ_FIELDS
from whenvoca.steps.spread_tasks import SPREAD_TASKS
from whenvoca.steps.take_back import TAKE_BACK
from whenvoca.steps.tasks import TASK_STEPS
from whenvoca.steps.write_report import WRITE_REPORT

STEPS: tuple[StepDefinition, ...] = (
    CREATE_EVENT,
    CHANGE_EVENT,
    CHANGE_EVENT_IN,
    CHANGE_EVENTS,
    DELETE_EVENT,
    DELETE_EVENT_IN,
    DELETE_EVENTS,
    MIRROR_EVENT,
    FIND_EVENTS,
    FIND_EVENT,
    FIND_ATTENDEES,
    FIND_FREE_TIME,
    FIND_CLASHES,
    PUBLISH_FREE_TIME,
    WRITE_REPORT,
    NUMBER_EVENTS,
    SPREAD_TASKS,
    ADD_TRAVEL,
    TAKE_BACK,
    ADD_ROW,
    CHANGE_ROW,
    CHANGE_ROW_IN,
    DELETE_ROW,
    DELETE_ROW_IN,
    FIND_ROWS,
    FIND_ROW,
    MIRROR_ROW,
    FILL_SHEET,
    SEND_TO_ROOM,
    SEND_TO_PERSON,
    ANSWER,
    REPLY,
    SEND_EMAIL_IN,
    SEND_EMAIL,
    ANSWER_EMAIL,
    ANSWER_EMAIL_IN,
    FIND_EMAILS,
    FILE_EMAIL,
    KEEP_INVITATION,
    ANSWER_INVITATION,
    READ_FIELDS,
    READ_EVENT,
    READ_EVENTS,
    READ_SHEET,
    READ_CALENDAR,
    SAVE,
    SET_PRESENCE,
    RESTORE_PRESENCE,
    *TASK_STEPS,
    MIRROR_TASK,
    CALL,
)
