"""The pages of forms: to be filled in, sent, looked at again, changed and withdrawn."""

from __future__ import annotations

import contextlib
import json
import secrets
from collections.abc import Callable, Mapping, Sequence
from datetime import datetime
from typing import Any

from starlette.exceptions import HTTPException
from starlette.requests import Request
from starlette.responses import RedirectResponse, Response

from whenvoca.calendars.writer import write_calendar
from whenvoca.engine.clock import Clock
from whenvoca.engine.ledger.protocol import Ledger
from whenvoca.engine.ledger.records import KeptEntry, Sample
from whenvoca.places.form.fields import shown_texts, text_of_free_time
from whenvoca.places.form.keeping import keep_entry
from whenvoca.places.form.place import Form
from whenvoca.places.sample_file import FIELDS
from whenvoca.values.durations import show_duration
from whenvoca.values.texts import show_value
from whenvoca.web.booked import as_event, day_in_words, in_words
from whenvoca.web.free_times import FreeTimesOfForm, faults_of_held, faults_of_times
from whenvoca.web.house import House
from whenvoca.web.outcomes import Story, story_of
from whenvoca.web.rehearsals import is_rehearsed, rehearse_last
from whenvoca.web.requests import read_form, refuse_other_sites

_INPUTS = {"date": "date", "time": "time", "moment": "datetime-local", "address": "email", "number": "text"}
_LONGEST_PAGE = 64  # signs of a page's own word


class FormPages:
    """The pages of one form. ``may_follow``: a workflow follows what its senders change."""

    def __init__(
        self, house: House, form: Form, clock: Clock, open_places: Callable[[], Any], *, may_follow: bool
    ) -> None:
        self._house, self._form, self._clock, self._may_follow = house, form, clock, may_follow
        self._times = FreeTimesOfForm(form, open_places)

    # --- a new entry

    async def show(self, request: Request) -> Response:
        """The form, empty but for what the link fills in."""
        form = self._form
        count = await self._house.intake.do(self._count)
        if why := form.why_closed(self._clock.now(), count):
            return self._said(why)
        given = {
            each.word: request.query_params.getlist(each.from_link)[:1]
            for each in form.fields
            if each.from_link and each.from_link in request.query_params
        }
        return await self._page(given)

    async def take(self, request: Request) -> Response:
        """What somebody has sent: kept, worked on, and answered with what came of it."""
        refuse_other_sites(request, self._house.settings)
        posted = await read_form(request, self._house.settings.size)
        page = posted.get("page", [""])[0][:_LONGEST_PAGE]
        number, link = posted.get("entry", [""])[0], posted.get("link", [""])[0]
        is_again = bool(number) and self._is_link(number, link)
        entry = number if is_again else ""
        values, faults = await self._read(posted)
        if faults:
            known = await self._house.intake.do(lambda ledger: ledger.taken_before(self._form.name, page))
            if known is not None:  # the same page again, and what was right the first time
                return RedirectResponse(self._own_path(known), 303)
            return await self._page(posted, faults, page=page, entry=entry, status=422)
        kept = await self._house.intake.do(lambda ledger: self._keep(ledger, values, posted, once=page, subject=entry))
        if isinstance(kept, str):
            return self._said(kept, status=409)
        if isinstance(kept, dict):
            return await self._page(posted, kept, page=page, entry=entry, status=422)
        if not kept[0]:
            return await self._tell_rehearsal()
        return await self._answer(*kept, posted)

    async def _tell_rehearsal(self) -> Response:
        told = await rehearse_last(self._house, self._form.name, self._form.wake)
        return self._house.render("rehearsed.html", title=self._form.words.title, told=told)

    async def _read(
        self, posted: Mapping[str, Sequence[str]], story: Story | None = None
    ) -> tuple[dict[str, Any], dict[str, str]]:
        """The values, and what is wrong by the fields' words; ``story``: of the entry, where it is changed."""
        now = self._clock.now()
        values, faults = self._form.read(posted, now)
        if not faults:
            known = {} if story is None else story.values
            chosen = {name: value for name, value in values.items() if value != known.get(name)}
            offered = await self._times.offered(now, fresh=True, without=_uids(story))
            faults = faults_of_times(self._form, chosen, offered)
        return values, faults

    def _keep(
        self,
        ledger: Ledger,
        values: Mapping[str, Any],
        posted: Mapping[str, Sequence[str]],
        *,
        once: str,
        subject: str = "",
    ) -> tuple[str, int] | str | dict[str, str]:
        """Keeps an entry; answers its subject and its arrival, or why it is not taken, or what is wrong by the fields'
        words. The same page sent twice is one entry. Where entries are only rehearsed, the subject is empty."""
        form, now = self._form, self._clock.now()
        known = ledger.taken_before(form.name, once)
        if known is not None:
            return known, ledger.last_arrival(form.name)
        earlier = ledger.entry(form.name, subject) if subject else None
        if earlier is None and (why := form.why_closed(now, self._count(ledger))):
            return f"{why} What you filled in was not kept."
        typed = {each.name: list(posted.get(each.word, ())) for each in form.fields}
        ledger.put_sample(form.name, Sample(now.isoformat(), FIELDS, json.dumps(typed, ensure_ascii=False)))
        if faults := faults_of_held(ledger, form, values, subject, now):
            return faults
        if is_rehearsed(ledger, form.name, now):
            return "", 0
        return keep_entry(ledger, form.name, values, now, once=once, subject=subject), ledger.last_arrival(form.name)

    async def _answer(self, subject: str, arrival: int, posted: Mapping[str, Sequence[str]]) -> Response:
        """Waits for the workflows, and answers: with the form again where one said no, else by the entry's own page."""
        self._form.wake()
        await self._house.waiting.until_looked_at(self._form.name, arrival, self._form.answer_within)
        story = await self._story(subject)
        if story is not None and story.is_refused:
            return await self._page(posted, refused=story.reason, entry=subject, status=422)
        return RedirectResponse(self._own_path(subject), 303)

    # --- an entry of somebody's

    async def look(self, request: Request) -> Response:
        """What became of an entry."""
        subject = self._subject(request)
        story = await self._known(subject)
        form, until = self._form, self._form.change_until
        said = ""
        if until is not None:
            said = (
                show_value(until.day)
                if until.day
                else f"{show_duration(until.before)} before “{until.field}”"
                if until.before
                else ""
            )
        return self._house.render(
            "entry.html",
            title=form.words.title,
            story=story,
            thanks=form.words.thanks,
            booked=[in_words(each, form.zone) for each in story.booked],
            here=self._own_path(subject),
            may_change=self._may_follow and form.may_change(story.values, self._clock.now()),
            until=said,
        )

    async def calendar(self, request: Request) -> Response:
        """What was booked, as iCalendar that names nobody but the sender."""
        story = await self._known(self._subject(request))
        if not story.booked:
            raise HTTPException(404)
        address = next((story.values.get(each.name) for each in self._form.fields if each.kind == "address"), None)
        event = as_event(story.booked[0], str(address or ""))
        data = write_calendar(event, self._clock.now())
        return Response(data, media_type="text/calendar; charset=utf-8")

    async def show_change(self, request: Request) -> Response:
        """The form as it was filled in, to be changed."""
        subject = self._subject(request)
        story = await self._changeable(subject)
        given = {
            each.word: shown_texts(each, story.values.get(each.name), self._form.zone) for each in self._form.fields
        }
        return await self._page(given, change=subject, story=story)

    async def change(self, request: Request) -> Response:
        """What somebody has changed."""
        subject = self._subject(request)
        refuse_other_sites(request, self._house.settings)
        story = await self._changeable(subject)
        posted = await read_form(request, self._house.settings.size)
        page = posted.get("page", [""])[0][:_LONGEST_PAGE]
        values, faults = await self._read(posted, story)
        if faults:
            return await self._page(posted, faults, page=page, change=subject, story=story, status=422)
        kept = await self._house.intake.do(
            lambda ledger: self._keep(ledger, values, posted, once=page, subject=subject)
        )
        assert not isinstance(kept, str)
        if isinstance(kept, dict):
            return await self._page(posted, kept, page=page, change=subject, story=story, status=422)
        if not kept[0]:
            return await self._tell_rehearsal()
        return await self._answer_change(*kept, posted)

    async def _answer_change(self, subject: str, arrival: int, posted: Mapping[str, Sequence[str]]) -> Response:
        self._form.wake()
        await self._house.waiting.until_looked_at(self._form.name, arrival, self._form.answer_within)
        story = await self._story(subject)
        if story is not None and story.is_refused:
            return await self._page(posted, refused=story.reason, change=subject, story=story, status=422)
        return RedirectResponse(self._own_path(subject), 303)

    async def withdraw(self, request: Request) -> Response:
        """Takes an entry back."""
        subject = self._subject(request)
        refuse_other_sites(request, self._house.settings)
        await self._changeable(subject)
        arrival = await self._house.intake.do(lambda ledger: self._take_back(ledger, subject))
        self._form.wake()
        await self._house.waiting.until_looked_at(self._form.name, arrival, self._form.answer_within)
        return RedirectResponse(self._own_path(subject), 303)

    def _take_back(self, ledger: Ledger, subject: str) -> int:
        entry = ledger.entry(self._form.name, subject)
        if entry is not None and entry.state is not None:
            now = self._clock.now().isoformat()
            ledger.put_entry(self._form.name, KeptEntry(subject, entry.number, now, None))
        return ledger.last_arrival(self._form.name)

    # --- what these share

    def _count(self, ledger: Ledger) -> int:
        """How many entries count towards the limit; without one they are not counted."""
        return ledger.count_entries(self._form.name) if self._form.limit is not None else 0

    def _own_path(self, subject: str) -> str:
        return self._house.path_of_entry(self._form.path, self._form.name, subject)

    def _is_link(self, subject: str, link: str) -> bool:
        return self._house.is_token_of_entry(link, self._form.name, subject)

    def _subject(self, request: Request) -> str:
        """The entry that a private link is about. Raises HTTPException for a link that is none of ours."""
        subject, _, link = str(request.path_params["own"]).partition("-")
        if not self._is_link(subject, link):
            raise HTTPException(404)
        return subject

    async def _story(self, subject: str) -> Story | None:
        return await self._house.intake.do(lambda ledger: story_of(ledger, self._form.name, subject))

    async def _known(self, subject: str) -> Story:
        story = await self._story(subject)
        if story is None:
            raise HTTPException(404)
        return story

    async def _changeable(self, subject: str) -> Story:
        story = await self._known(subject)
        if not self._may_follow:
            raise HTTPException(404)
        if story.is_withdrawn:
            raise HTTPException(409, "This request is withdrawn already.")
        if not self._form.may_change(story.values, self._clock.now()):
            raise HTTPException(409, "It is too late to change this request.")
        return story

    async def _page(
        self,
        given: Mapping[str, Sequence[str]],
        faults: Mapping[str, str] | None = None,
        *,
        refused: str = "",
        page: str = "",
        entry: str = "",
        change: str = "",
        story: Story | None = None,
        status: int = 200,
    ) -> Response:
        form = self._form
        offered = await self._times.offered(self._clock.now(), without=_uids(story))
        own = self._own_path(change) if change else ""
        return self._house.render(
            "form.html",
            status=status,
            title=form.words.title,
            intro=form.words.intro,
            fields=form.fields,
            ids={each.word: f"field-{number}" for number, each in enumerate(form.fields, 1)},
            inputs={each.word: _INPUTS.get(each.kind, "text") for each in form.fields},
            given=given,
            times={
                each.word: self._by_day(offered.get(each.word, ()), given.get(each.word, ()))
                for each in form.fields
                if each.free is not None
            },
            is_known=bool(offered),
            faults=faults or {},
            refused=refused,
            page=page if faults and page else secrets.token_urlsafe(16),
            entry=entry,
            link=self._house.token_of_entry(form.name, entry) if entry else "",
            action=f"{own}/change" if change else form.path,
            is_change=bool(change),
            withdraw=f"{own}/withdraw",
        )

    def _by_day(self, times: Sequence[datetime], given: Sequence[str]) -> list[tuple[str, list[tuple[str, str]]]]:
        """The times of each day as the page sends and shows them; what was given stays there, free or not."""
        zone, found = self._form.zone, {text_of_free_time(each, self._form.zone): each for each in times}
        for text in given:
            with contextlib.suppress(ValueError, OverflowError):
                found.setdefault(text, datetime.fromisoformat(text).astimezone(zone))
        days: dict[str, list[tuple[str, str]]] = {}
        for text, moment in sorted(found.items(), key=lambda each: each[1]):
            days.setdefault(day_in_words(moment.date()), []).append((text, f"{moment:%H:%M}"))
        return list(days.items())

    def _said(self, said: str, status: int = 200) -> Response:
        return self._house.render("said.html", status=status, title=self._form.words.title, said=said)


def _uids(story: Story | None) -> tuple[str, ...]:
    """Of the events that the entry has by now, which are no hindrance to it."""
    return () if story is None else tuple(each.uid for each in story.booked)
