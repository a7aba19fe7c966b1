"""Emails start workflows, each once; they are read, answered, filed and kept."""

from __future__ import annotations

import os
import shutil

import pytest

from tests.conftest import EXAMPLES, Desk
from tests.mail.conftest import LOGGING, MAIL, MailDesk, make_email
from tests.places.workbooks import plain_workbook

WISH = "Dear all,\n\nSchool: Quay School\nDay: 2 April 2027\nTime: 10am\nPupils: 24\n"
QUOTED = WISH + "\n> On 14 March you wrote\n> Day: 3 April 2027\n-- \nJoana\nDay: never\n"


def logged(mail: MailDesk) -> list[str]:
    return [line.partition(",")[0] for line in mail.read("log.csv").splitlines()[1:]]


# --- which are new


def test_each_email_starts_its_workflow_once(mail: MailDesk) -> None:
    mail.workflow(LOGGING)
    mail.deliver("old.eml", make_email("old", subject="Old"))
    assert mail.run("check").out.startswith("ok")
    mail.begin()
    assert logged(mail) == []
    path = mail.deliver("one.eml", make_email("one", subject="One"))
    assert mail.run("run").code == 0
    assert logged(mail) == ["One"]
    os.rename(path, path.with_name("renamed.eml"))
    shutil.copy(path.with_name("renamed.eml"), path.with_name("copied.eml"))
    mail.run("run")
    assert logged(mail) == ["One"]
    mail.deliver("renamed.eml", make_email("two", subject="Two"))  # another email under a name that is known
    mail.run("run")
    assert logged(mail) == ["One", "Two"]
    path.with_name("renamed.eml").unlink()
    mail.run("run")
    assert logged(mail) == ["One", "Two"]


def test_emails_without_an_id_are_known_by_their_heads(mail: MailDesk) -> None:
    mail.workflow(LOGGING).begin()
    bare = make_email("x", subject="Bare").replace(b"Message-ID: <x@quay.example.org>\n", b"")
    mail.deliver("a.eml", bare)
    mail.deliver("b.eml", bare)
    mail.deliver("c.eml", bare.replace(b"Subject: Bare", b"Subject: Other"))
    mail.run("run")
    assert sorted(logged(mail)) == ["Bare", "Other"]


def test_existing_emails_count_where_the_workflow_says_so_and_a_lost_ledger_makes_nothing_twice(mail: MailDesk) -> None:
    text = "when post receives an email\n  existing yes\n\ncreate event in outreach\n  title  email.subject\n"
    mail.workflow(text + "  start  2027-04-02 at 10:00\n\nanswer email\n  text  email.text\n")
    mail.deliver("one.eml", make_email("one", "What I said"))
    assert mail.run("run").code == 0
    assert mail.events().count("BEGIN:VEVENT") == 1
    assert [each.get_content().strip() for each in mail.sent()] == ["What I said"]
    before = sorted(path.name for path in (mail.folder / "mail-out").iterdir())
    shutil.rmtree(mail.folder / ".whenvoca")
    mail.run("run")
    assert mail.events().count("BEGIN:VEVENT") == 1
    assert sorted(path.name for path in (mail.folder / "mail-out").iterdir()) == before


@pytest.mark.parametrize(
    ("setting", "sent", "count"),
    [
        ('from "ines"', "ines@example.org", 1),
        ('from "ines"', "rui@example.org", 0),
        ('from "rui@example.org"', "Rui <rui@example.org>", 1),
        ('where email.to contains "visits@example.org"', "rui@example.org", 1),
        ('where email.to contains "other@example.org"', "rui@example.org", 0),
        ('where email.subject begins with "a vis"', "rui@example.org", 1),
        ("where email.trusted", "rui@example.org", 1),
        ("where email.sent after 2027-03-15 at 09:30", "rui@example.org", 0),
    ],
)
def test_which_emails_count(mail: MailDesk, setting: str, sent: str, count: int) -> None:
    mail.workflow(LOGGING.replace("email\n\n", f"email\n  {setting}\n\n", 1)).begin()
    mail.deliver("one.eml", make_email("one", sender=sent))
    mail.run("run")
    assert len(logged(mail)) == count


def test_an_email_that_is_too_large_is_told_once_and_the_rest_goes_on(mail: MailDesk) -> None:
    mail.settings(post='trust = "sender"\nlimit = "2 kB"\n').workflow(LOGGING).begin()
    mail.deliver("big.eml", make_email("big", "x" * 3000))
    mail.deliver("small.eml", make_email("small", subject="Small"))
    done = mail.run("run")
    assert "post, big.eml: the email has 3.338 kB, more than 2 kB, and was not read" in done.err + done.out
    assert logged(mail) == ["Small"]
    again = mail.run("run")
    assert "big.eml" not in again.err + again.out


def test_emails_sent_before_a_day_do_not_count(mail: MailDesk) -> None:
    mail.settings(post='trust = "sender"\nsince = 2027-03-15\n').workflow(LOGGING).begin()
    mail.deliver("a.eml", make_email("a", subject="Before", date="Sun, 14 Mar 2027 09:00:00 -0100"))
    mail.deliver("b.eml", make_email("b", subject="After"))
    mail.run("run")
    assert logged(mail) == ["After"]


# --- reading


def test_school_emails(desk: Desk) -> None:
    shutil.copytree(EXAMPLES, desk.folder, dirs_exist_ok=True)
    for path in (desk.folder / "workflows").glob("*.voca"):
        if path.stem != "school-emails":
            path.unlink()
    assert desk.drive("check", "school-emails").code == 0
    assert desk.drive("run", "school-emails").code == 0
    desk.write("post/one.eml", make_email("one", QUOTED))
    desk.write("post/two.eml", make_email("two", "School: Hill\nTime: 9am\nPupils: 8", subject="Another"))
    desk.write("post/away.eml", make_email("away", WISH, Auto_Submitted="auto-replied"))
    done = desk.drive("run", "school-emails")
    assert done.code == 0
    texts = [path.read_text() for path in (desk.folder / "outbox").glob("*.eml")]
    (good,) = [text for text in texts if "Re: A visit" in text]
    assert "In-Reply-To: <one@quay.example.org>" in good
    assert "From: visits@example.org" in good
    assert "Friday 2 April, 10:00" in good
    assert "text/calendar" in good
    (asked,) = [text for text in texts if "Re: Another" in text]
    assert "Day is missing" in asked
    assert len(texts) == 2
    (event,) = (desk.folder / "calendars/outreach").glob("*.ics")
    ics = event.read_text().replace("\n ", "")
    assert "SUMMARY:Quay School (24 pupils)" in ics
    assert "STATUS:TENTATIVE" in ics
    assert "DTSTART;TZID=Atlantic/Azores:20270402T100000" in ics
    assert "ATTENDEE:mailto:joana@quay.example.org" in ics
    assert desk.drive("run", "school-emails").err.strip() == "nothing new"


FIELDS = [
    ("Day  date", "Day: 2 April 2027", "2 Apr 2027"),
    ("Day  date", "DAY:   02/04/2027", "2 Apr 2027"),
    ("Day  date", "Day: next friday", "26 Mar 2027"),
    ("Day  date", "Day: tomorrow", "16 Mar 2027"),
    ("Day  date", "Day: 31 February 2027", "! Day"),
    ("Day  date", "Night: 2 April", "! Day is missing"),
    ("Day  date or empty", "Night: 2 April", ""),
    ("Time  time", "Time: 10am", "10:00"),
    ("Time  time", "Time: half past ten", "10:30"),
    ("Time  time", "Time: 25:00", "! Time"),
    ("Pupils  number", "Pupils: about 24 children", "24"),
    ("Pupils  number", "Pupils: 24", "24"),
    ("Pupils  number", "Pupils: many", '! Pupils: "many" is no number'),
    ("Ok  yes/no", "Ok: yes", "yes"),
    ("Ok  yes/no", "Ok: perhaps", "! Ok"),
    ("Span  duration", "Span: 1 hour 30 minutes", "1 hour 30 minutes"),
    ("Contact  address", "Contact: Ana <ana@example.org>", "ana@example.org"),
    ("Contact  address", "Contact: ines", "ines@example.org"),
    ("Contact  address", "Contact: nobody", "! Contact"),
    ("Night-of  date", "Night of\n2 April 2027", "! Night-of is missing"),
    ("Night-of  date", "Night of: 2 April 2027", "2 Apr 2027"),
    ("School  text", "School\tQuay School", "Quay School"),
    ("Notes  text", "Notes: one\n  two\n  three", "one two three"),
    ("Many  list", "Many: a, b", "a, b"),
    ("Start  moment", "Start: 2027-04-02 10:00", "2 Apr 2027 10:00"),
]


@pytest.mark.parametrize(("field", "text", "wanted"), FIELDS, ids=[each[1][:30] for each in FIELDS])
def test_fields_are_read_by_their_kinds(mail: MailDesk, field: str, text: str, wanted: str) -> None:
    name = field.split()[0]
    mail.workflow(
        f"when post receives an email\n\nread fields from email.new-text as got\n  {field}\n"
        'if it fails\n  add row to log as fault\n    What  "! {reason}"\n  stop\n\n'
        f'add row to log\n  What  "is {{got.{name}}}"\n'
    ).begin()
    mail.deliver("one.eml", make_email("one", text))
    done = mail.run("run")
    assert done.code == 0, done
    said = mail.read("log.csv").splitlines()[1].strip('",')
    assert (
        said.startswith(wanted.replace('"', '""'))
        if wanted.startswith("!")
        else said.strip('", ') == f"is {wanted}".strip()
    )


def test_a_kind_that_there_is_not_is_a_fault(mail: MailDesk) -> None:
    mail.workflow("when post receives an email\n\nread fields from email.text as got\n  Day  dates\n")
    told = mail.run("check")
    assert told.code == 1
    assert "Day has no kind that there is" in told.out
    assert "one of: text, list, number, yes/no, date" in told.out


EVENTS = [
    ("Please add a dome visit on 2 April from 10 to 12.", "read event from", "2 Apr 2027 10:00"),
    ("Please put a meeting on Friday at 3pm.", "read event from", "19 Mar 2027 15:00"),
    ("Thank you for the nice evening.", "read event from", "! the text asks for no event"),
]


@pytest.mark.parametrize(("text", "step", "wanted"), EVENTS, ids=[each[2] for each in EVENTS])
def test_events_are_read_from_plain_english(mail: MailDesk, text: str, step: str, wanted: str) -> None:
    mail.workflow(
        f"when post receives an email\n\n{step} email.new-text as wish\n"
        'if it fails\n  add row to log as fault\n    What  "! {reason}"\n  stop\n\n'
        'add row to log\n  What  "{wish.start}"\n  Who  "{wish.sure}{wish.missing}"\n'
    ).begin()
    mail.deliver("one.eml", make_email("one", text))
    mail.run("run")
    assert mail.read("log.csv").splitlines()[1].startswith(wanted)


def test_what_is_attached_is_read_and_kept(mail: MailDesk) -> None:
    mail.workflow(
        """
        when post receives an email

        for each one in email.attachments
          if one.name ends with ".xlsx"
            read sheet from one as rows
            for each line in rows
              add row to log
                What  line.Title
                Who   "{line.Pupils + 1}"
          else if one.name ends with ".ics"
            read calendar from one as offered
            for each event-there in offered
              add row to log as other
                What  event-there.title
          save one in "received"
        """
    ).begin()
    book = plain_workbook([["Title", "Pupils"], ["Sea School", 12], ["Hill", 8]])
    sheet = ("../../wishes.xlsx", "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet", book)
    ics = b"BEGIN:VCALENDAR\r\nVERSION:2.0\r\nBEGIN:VEVENT\r\nUID:u\r\nDTSTART:20270402T100000Z\r\nSUMMARY:Offered\r\n"
    calendar = ("offer.ics", "text/calendar", ics + b"END:VEVENT\r\nEND:VCALENDAR\r\n")
    mail.deliver("one.eml", make_email("one", attach=sheet))
    mail.deliver("two.eml", make_email("two", attach=calendar))
    rehearsed = mail.run("rehearse")
    assert "wishes.xlsx" in rehearsed.out
    assert not (mail.folder / "received").exists()
    done = mail.run("run")
    assert done.code == 0, done
    assert sorted(mail.read("log.csv").splitlines()[1:]) == ["Hill,9", "Offered,", "Sea School,13"]
    assert sorted(path.name for path in (mail.folder / "received").iterdir()) == ["offer.ics", "wishes.xlsx"]
    assert (mail.folder / "received/wishes.xlsx").read_bytes() == book
    other = calendar[2].replace(b"Offered", b"Another")
    mail.deliver("three.eml", make_email("three", attach=("offer.ics", "text/calendar", other)))
    mail.deliver("four.eml", make_email("four", attach=calendar))
    mail.run("run")
    names = sorted(path.name for path in (mail.folder / "received").iterdir())
    assert names == ["offer-2.ics", "offer.ics", "wishes.xlsx"]
    number = next(each["run"] for each in mail.run("runs", "--json").json["runs"] if "wishes" in str(each))
    mail.run("undo", str(number), "--yes")
    assert not (mail.folder / "received/wishes.xlsx").exists()


@pytest.mark.parametrize("folder", ["../out", "/tmp/out", ".whenvoca/x"])
def test_files_are_kept_in_the_workspace_only(mail: MailDesk, folder: str) -> None:
    mail.workflow(
        f'when post receives an email\n\nfor each one in email.attachments\n  save one in "{folder}"\n'
    ).begin()
    mail.deliver("one.eml", make_email("one", attach=("a.txt", "text/plain", b"x")))
    done = mail.run("run")
    assert done.code == 1
    assert f'"{folder}" is no folder of the workspace' in done.out


# --- answering


ANSWERING = "when post receives an email\n\nanswer email\n  text  "


def test_an_answer_stays_in_the_thread_and_goes_where_it_is_wanted(mail: MailDesk) -> None:
    mail.workflow(ANSWERING + '"Thank you."\n  html  yes\n  attach  "map.txt"\n').begin()
    mail.desk.write("map.txt", "turn left")
    head = {"Reply_To": "office@quay.example.org", "References": "<first@quay.example.org> <second@quay.example.org>"}
    mail.deliver("one.eml", make_email("one", to="Visits <visits@example.org>", subject="Re: A visit", **head))
    assert mail.run("run").code == 0
    (sent,) = mail.sent()
    assert (sent["From"], sent["To"]) == ("visits@example.org", "office@quay.example.org")
    assert (sent["Subject"], sent["In-Reply-To"]) == ("Re: A visit", "<one@quay.example.org>")
    assert sent["References"].split() == [f"<{each}@quay.example.org>" for each in ("first", "second", "one")]
    assert sent["Auto-Submitted"] == "auto-replied"
    body = sent.get_body(("html",))
    assert body is not None
    assert "<p>Thank you.</p>" in body.get_content()
    (attached,) = sent.iter_attachments()
    assert (attached.get_filename(), attached.get_content()) == ("map.txt", "turn left")


@pytest.mark.parametrize(
    "head",
    [
        {"Auto_Submitted": "auto-generated"},
        {"Auto_Submitted": "auto-replied; owner-email=x"},
        {"Precedence": "bulk"},
        {"List_Id": "<news.example.com>"},
        {"X_Autoreply": "yes"},
        {"Return_Path": "<>"},
    ],
    ids=str,
)
def test_a_program_gets_no_answer(mail: MailDesk, head: dict[str, str]) -> None:
    mail.workflow(ANSWERING + '"Thank you."\n').begin()
    mail.deliver("one.eml", make_email("one", **head))
    assert mail.run("run").code == 0
    assert not (mail.folder / "mail-out").exists()


def test_nobody_gets_two_different_answers_to_one_email(mail: MailDesk) -> None:
    mail.workflow(ANSWERING + '"One."\n\nanswer email\n  text  "Two."\n').begin()
    mail.deliver("one.eml", make_email("one"))
    done = mail.run("run")
    assert done.code == 1
    assert "was answered already, in other words" in done.out
    assert [each.get_content().strip() for each in mail.sent()] == ["One."]
    mail.workflow(ANSWERING + '"One."\n', "emails")
    mail.run("retry", "--failed", "--yes")
    assert [each.get_content().strip() for each in mail.sent()] == ["One."]


def test_two_programs_that_answer_each_other_come_to_an_end(mail: MailDesk) -> None:
    mail.workflow(ANSWERING + '"Thank you."\n').begin()
    for number in range(14):
        mail.deliver(f"{number}.eml", make_email(f"n{number}"))
    done = mail.run("run")
    assert done.code == 1
    assert len(mail.sent()) == 10
    assert "got 10 answers today" in done.out
    mail.deliver("more.eml", make_email("more"))
    mail.deliver("other.eml", make_email("other", sender="rui@example.org"))
    mail.run("run")
    assert len(mail.sent()) == 11


def test_an_email_goes_out_with_a_page_and_copies(mail: MailDesk) -> None:
    mail.workflow(
        'when asked\n\nsend email to "ines"\n  subject  "Hello"\n  copies  "tomas", "ines"\n  html  yes\n'
        '  text """\n    See https://hall.example.org/x?a=1&b=2. <b>\n    Bye\n    """\n',
        "hello",
    )
    assert mail.run("run", "hello").code == 0
    (sent,) = mail.sent()
    assert (sent["To"], sent["Cc"]) == ("ines@example.org", "tomas@example.org")
    page = sent.get_body(("html",))
    assert page is not None
    said = page.get_content()
    assert '<a href="https://hall.example.org/x?a=1&amp;b=2">' in said
    assert "&lt;b&gt;" in said


# --- afterwards


def test_emails_whose_run_is_done_are_moved_and_come_back(mail: MailDesk) -> None:
    mail.settings(post='trust = "sender"\nafter = { move = "Done" }\n').workflow(LOGGING).begin()
    mail.deliver("one.eml", make_email("one"))
    mail.deliver("two.eml", make_email("two"))
    assert "moved to Done" in mail.run("run").out
    assert sorted(path.name for path in (mail.folder / "post/Done").iterdir()) == ["one.eml", "two.eml"]
    assert list((mail.folder / "post").glob("*.eml")) == []
    assert mail.run("run").err.strip() == "nothing new"
    mail.run("undo", "1", "--yes")
    assert [path.name for path in (mail.folder / "post").glob("*.eml")] == ["one.eml"]
    mail.run("run")
    assert len(logged(mail)) == 1


def test_emails_of_a_failed_run_stay(mail: MailDesk) -> None:
    mail.settings(post='trust = "sender"\nafter = { move = "Done" }\n')
    mail.workflow('when post receives an email\n\nfail "not today"\n').begin()
    mail.deliver("one.eml", make_email("one"))
    assert mail.run("run").code == 1
    assert (mail.folder / "post/one.eml").exists()


def test_a_maildir_keeps_names_over_flags(mail: MailDesk) -> None:
    for name in ("cur", "new", "tmp"):
        (mail.folder / "post" / name).mkdir()
    mail.settings(post='trust = "sender"\nafter = "flag"\n').workflow(LOGGING).begin()
    mail.deliver("1789.M1.host", make_email("one", subject="One"), "post/new")
    mail.deliver("1790.M2.host:2,S", make_email("two", subject="Two"), "post/cur")
    mail.run("run")
    assert sorted(logged(mail)) == ["One", "Two"]
    assert sorted(path.name for path in (mail.folder / "post/cur").iterdir()) == [
        "1789.M1.host:2,F",
        "1790.M2.host:2,FS",
    ]
    os.rename(mail.folder / "post/cur/1789.M1.host:2,F", mail.folder / "post/cur/1789.M1.host:2,FS")
    assert mail.run("run").err.strip() == "nothing new"
    mail.settings(post='trust = "sender"\nafter = { move = "Done" }\n')
    mail.deliver("1791.M3.host", make_email("three"), "post/new")
    mail.run("run")
    assert [path.name for path in (mail.folder / "post/.Done/cur").iterdir()] == ["1791.M3.host:2,"]


def test_a_file_of_emails_is_read(mail: MailDesk) -> None:
    def boxed(*emails: bytes) -> bytes:
        return b"".join(b"From x Mon Mar 15 09:00:00 2027\n" + each + b"\n" for each in emails)

    mail.settings(base=MAIL.replace('folder = "post"', 'file = "post.mbox"')).workflow(LOGGING)
    first, second, third = (make_email(name, subject=name) for name in ("one", "two", "three"))
    mail.desk.write("post.mbox", boxed(first))
    mail.begin()
    mail.desk.write("post.mbox", boxed(first, second, third))
    mail.run("run")
    assert logged(mail) == ["two", "three"]
    mail.desk.write("post.mbox", boxed(third, make_email("four", subject="four")))
    mail.run("run")
    assert logged(mail) == ["two", "three", "four"]


def test_emails_are_found_and_filed(mail: MailDesk) -> None:
    mail.settings('[places.done]\nkind = "mailbox"\nfolder = "done"\n').workflow(
        """
        when post receives an email
          where email.subject is "Last"

        find emails in post as others
          from   2027-03-01
          until  2027-04-01
          where  sender is "joana@quay.example.org" and subject is not email.subject
        add row to log
          What  join(each e in others: e.subject, ", ")
        file email in done
        """
    )
    mail.deliver("old.eml", make_email("old", subject="Old"))
    mail.begin()
    mail.deliver("one.eml", make_email("one", subject="One"))
    mail.deliver("other.eml", make_email("other", sender="rui@example.org"))
    mail.deliver("last.eml", make_email("last", subject="Last"))
    assert mail.run("run").code == 0
    assert mail.read("log.csv").splitlines()[1] == '"Old, One",'
    assert not (mail.folder / "post/last.eml").exists()
    (filed,) = (mail.folder / "done").glob("*.eml")
    assert b"Subject: Last" in filed.read_bytes()


def test_an_email_in_a_file_is_rehearsed(mail: MailDesk) -> None:
    mail.workflow(ANSWERING + '"Thank you, {email.sender}."\n')
    path = mail.desk.write("sample.eml", make_email("sample"))
    told = mail.run("rehearse", "emails", "--sample", str(path))
    assert told.code == 0
    assert "Thank you, joana@quay" in told.out
    assert not (mail.folder / "mail-out").exists()


WRONG = [
    ('after = "later"\n', 'after is never "later"'),
    ('after = { copy = "Done" }\n', "after names no folder"),
    ('after = { move = "../x" }\n', '"../x" is no name of a folder'),
    ('after = "flag"\n', "emails in a folder of .eml files have no flags"),
    ('trust = "everybody"\n', 'trust is never "everybody"'),
    ('trust = { results = "" }\n', "trust names no server"),
    ('limit = "many"\n', "limit is not a size"),
    ('since = "monday"\n', "since is not a day"),
    ('colour = "red"\n', 'there is no setting "colour"'),
]


@pytest.mark.parametrize(("setting", "said"), WRONG, ids=[each[1] for each in WRONG])
def test_settings_that_are_wrong_are_named(mail: MailDesk, setting: str, said: str) -> None:
    told = mail.settings(post=setting).run("places")
    assert said in told.out + told.err
