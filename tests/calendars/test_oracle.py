"""All calendars that the iCalendar library brings, read by us and expanded by a second program.

Where the two differ, the tables below say why that is right by the standard.
"""

from __future__ import annotations

import logging
from collections import Counter
from datetime import UTC, date, datetime
from pathlib import Path
from typing import Any

import icalendar
import pytest
import recurring_ical_events

from whenvoca.calendars.reader import read_calendar
from whenvoca.calendars.recurrence import expand_events
from whenvoca.errors import SourceFault
from whenvoca.values.zones import load_zone

BERLIN = load_zone("Europe/Berlin")
ROOT = Path(icalendar.__file__).parent / "tests"
FOREIGN = sorted(ROOT.rglob("*.ics"))
WHOLE = (b"BEGIN:VEVENT", b"BEGIN:VTODO", b"BEGIN:VJOURNAL", b"BEGIN:VFREEBUSY", b"BEGIN:VTIMEZONE")

# Why an event of theirs is unread here, by file; the other program guesses there, or stops.
UNREAD = {
    # events without DTSTART, which RFC 5545 3.6.1 asks for: nobody knows when they are
    "it has no start": (
        "broken_ical created_calendar_with_unicode_fields event_with_escaped_character1 event_with_escaped_character2 "
        "event_with_escaped_character3 event_with_escaped_character4 event_with_escaped_characters event_with_rsvp "
        "event_with_unicode_organizer issue_100_transformed_doctests_into_unittests issue_1050_multiple_calendars "
        "issue_1050_uid_in_description issue_1081_with_summary issue_1549_binary_attachment issue_1561_image_value "
        "issue_322_expected_calendar issue_355_url_escaping_empty_param issue_64_event_with_ascii_summary "
        "issue_64_event_with_non_ascii_summary issue_722_missing_timezones issue_798_related_to "
        "issue_82_expected_output "
        "rfc_5545_RDATE_example rfc_6868 rfc_7256_multi_value_parameters rfc_7265_request_status rfc_7986_conferences "
        "rfc_7986_image rfc_9074_example_proximity rfc_9253_gap rfc_9253_related_to"
    ),
    # values that are none
    "DTSTART:INVALID-DATE cannot be read": "broken_dtstart issue_1081_invalid_start_and_end "
    "issue_1081_invalid_start_valid_end",
    "DURATION:P999999999999999999W cannot be read": "invalid_duration",
    "RDATE;VALUE=PERIOD:19970101T180000Z/19970102T070000Z,199709T cannot be read": "issue_464_invalid_rdate",
    "EXDATE;VALUE=DATE: cannot be read": "parsing_error",
    "is no rule of repetition": "issue_1081_invalid_rrule_freq issue_165_missing_event rfc_7529",
    "is not a date": "multiple_timezones",
    # a TZID without its VTIMEZONE, which RFC 5545 3.2.19 asks for, of a name that no system knows
    "there is no time zone": (
        "issue_526_calendar_with_different_events issue_526_calendar_with_event_subset issue_526_calendar_with_events "
        "issue_526_calendar_with_shuffeled_events issue_722_missing_VTIMEZONE_custom"
    ),
}
WHY = {name: why for why, names in UNREAD.items() for name in names.split()}
THEIRS_STOP = {  # they stop at an event that is read here, and the other events of the file are seen by nobody
    "america_new_york_forward_reference": "two DTSTART: the first counts",
    "issue_104_broken_calendar": "a line that is none, in an event that is whole without it",
    "fuzz_testcase_vtimezone_lone_cr": "a zone that nothing uses",
    "pacific_fiji": "a VTIMEZONE with two DTSTART",
    "parsing_error_in_UTC_offset": "a zone that nothing uses",
}
OTHER_CLOCK = {"event_with_recurrence"}  # times without a zone, which they take as UTC for the EXDATEs that are
REFUSED = {
    "small_bad_calendar",
    "big_bad_calendar",
    "pr_480_summary_with_colon",
}  # END:VCALENDAR is missing: cut, and never written


@pytest.mark.parametrize("path", FOREIGN, ids=[each.stem for each in FOREIGN])
@pytest.mark.filterwarnings("ignore")
def test_each_calendar_is_what_a_second_program_makes_of_it(path: Path) -> None:
    data = path.read_bytes()
    if data.lstrip().startswith(WHOLE):
        data = b"BEGIN:VCALENDAR\r\n" + data.strip() + b"\r\nEND:VCALENDAR\r\n"
    if not data.strip(b"\xef\xbb\xbf\r\n ").startswith(b"BEGIN:VCALENDAR") or path.stem in REFUSED:
        with pytest.raises(SourceFault):
            read_calendar(data, BERLIN, file=path.name)
        return
    reading = read_calendar(data, BERLIN, file=path.name)
    for each in reading.unread:
        assert WHY.get(path.stem, "nothing") in each.why
    theirs = expanded_by_them(data)
    if theirs is None:
        assert path.stem in THEIRS_STOP or reading.unread
        return
    assert path.stem not in THEIRS_STOP or path.parent.name == "timezones"
    ours = expanded_by_us(data)
    if path.stem in OTHER_CLOCK:
        assert len(ours) == len(theirs) == 97
        return
    assert not Counter(ours) - Counter(theirs)
    assert bool(Counter(theirs) - Counter(ours)) is bool(reading.unread)


def years_of(data: bytes) -> tuple[datetime, datetime]:
    """From before the first start to two years after the last, sixty years at most."""
    starts = [
        start.year
        for each in icalendar.Calendar.from_ical(data, multiple=True)
        for one in each.walk("VEVENT")
        if isinstance(start := getattr(one.get("DTSTART"), "dt", None), date)
    ]
    first, last = min(starts, default=2000) - 1, min(max(starts, default=2000) + 2, 9000)
    return datetime(max(first, last - 60, 2), 1, 1, tzinfo=UTC), datetime(last, 1, 1, tzinfo=UTC)


def expanded_by_us(data: bytes) -> list[str]:
    events = read_calendar(data, BERLIN).events
    return [said(each.start, each.end) for each in expand_events(events, *years_of(data), BERLIN)]


def expanded_by_them(data: bytes) -> list[str] | None:
    logging.disable(logging.CRITICAL)
    try:
        calendars = icalendar.Calendar.from_ical(data, multiple=True)
        low, high = years_of(data)
        return [
            said(each.start, each.end)
            for one in calendars
            for each in recurring_ical_events.of(one).between(low, high)
            if each.get("STATUS") != "CANCELLED"
        ]
    except Exception:  # whatever stops them
        return None
    finally:
        logging.disable(logging.NOTSET)


def said(*moments: Any) -> str:
    return " ".join(
        f"{(each if each.tzinfo else each.replace(tzinfo=BERLIN)).astimezone(UTC)}"
        if isinstance(each, datetime)
        else f"{each}"
        for each in moments
    )
