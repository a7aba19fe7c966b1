"""`whenvoca draft --from-mail`: a first workflow from an example email."""

from __future__ import annotations

from pathlib import Path

from whenvoca.cli.common import Common
from whenvoca.cli.show.output import console, say, say_next, show_json
from whenvoca.engine.workspace.settings import add_place
from whenvoca.errors import RequestFault
from whenvoca.open_workspace import OpenWorkspace
from whenvoca.places.files import read_file, replace_file
from whenvoca.places.mail.drafting import draft_from_email
from whenvoca.places.mail.reading import read_email

_NEW = {"kind": "mailbox", "folder": "post"}


def draft_from_mail(common: Common, opened: OpenWorkspace, file: Path, calendar: str, name: str) -> int:
    """Writes it, with a mailbox where there is none. Raises RequestFault."""
    found = read_email(read_file(file))
    mailboxes = [each for each in opened.places.names() if opened.places.kind_of(each) == "mailbox"]
    mailbox = mailboxes[0] if mailboxes else "post"
    word = name or "emails"
    workflow = opened.workspace.folder / f"workflows/{word}.voca"
    if workflow.exists():
        raise RequestFault("is there already", where=str(workflow), fix="name another one: --name NAME")
    draft = draft_from_email(found, mailbox, calendar)
    if not mailboxes:
        add_place(opened.workspace, mailbox, dict(_NEW), [])
    workflow.parent.mkdir(exist_ok=True)
    replace_file(workflow, draft.workflow.encode())
    if common.as_json:
        show_json(
            {
                "place": mailbox,
                "workflow": f"workflows/{word}.voca",
                "unsure": draft.unsure,
                "settings": {} if mailboxes else _NEW,
                "fields": draft.fields,
                "filled": 0,
                "text": draft.workflow,
            }
        )
        return 0
    console().print(draft.workflow.rstrip(), soft_wrap=True, highlight=False, markup=False)
    new = "" if mailboxes else f", and the place {mailbox} into whenvoca.toml"
    say(f"written: workflows/{word}.voca{new}")
    for each in draft.unsure:
        say(f"unsure: {each}", style="yellow")
    say_next(f"whenvoca rehearse {word} --sample {file}", quiet=common.quiet)
    return 0
