"""Reads and checks the workflow files of a workspace against its places."""

from __future__ import annotations

import os
from collections.abc import Iterable, Mapping, MutableMapping, Sequence
from pathlib import Path
from types import MappingProxyType
from typing import Protocol

from msgspec import Struct

from whenvoca.engine.regular_files import read_regular
from whenvoca.engine.things.event import event_type
from whenvoca.engine.things.task import task_type
from whenvoca.engine.workspace.settings import Workspace
from whenvoca.engine.workspace.web_warnings import web_warnings
from whenvoca.errors import RequestFault, SettingsFault, SourceFault
from whenvoca.language import tree
from whenvoca.language.blocks import iter_steps
from whenvoca.language.checker import check_workflow
from whenvoca.language.circles import find_circles
from whenvoca.language.definitions import EVERY_PLACE, PlaceInfo, Vocabulary
from whenvoca.language.faults import Fault, FaultList, nearest
from whenvoca.language.field_checks import FieldContext
from whenvoca.language.names import fold_name
from whenvoca.language.reader import read_workflow

_OF_WEB = ("form", "hook", "chat")


class PlaceLook(Protocol):
    """What the check asks of the places."""

    def info(self, name: str) -> PlaceInfo | None:
        """What the checker needs of a place; None if there is none of that name."""

    def names(self) -> list[str]:
        """The names of all places."""

    def kind_of(self, name: str) -> str:
        """The kind of a place."""

    def about_invitations(self, name: str) -> str:
        """A sentence on who sends the invitations of events that are made in a calendar."""


class ReadFile(Struct, frozen=True):
    """A workflow file, read: its tree, its faults so far, and its text."""

    path: Path
    workflow: tree.Workflow
    faults: FaultList
    text: str


class CheckResult(Struct, frozen=True):
    """The outcome of a check: workflows with their faults, by file, and what else is worth saying."""

    workflows: tuple[tree.Workflow, ...]
    faults: Mapping[str, Sequence[Fault]]
    warnings: tuple[str, ...]
    exits: tuple[int, ...] = ()  # of places that cannot be reached

    @property
    def hard_faults(self) -> list[Fault]:
        """Faults of the workflows themselves: with one of them nothing runs."""
        return [fault for faults in self.faults.values() for fault in faults if not fault.in_data]

    def without_waiting(self) -> tuple[CheckResult, list[Fault]]:
        """The workflows that can run while others wait for a place that cannot be read, and what these wait for.

        Itself and nothing where other faults have to be corrected first, or no workflow would be left.
        """
        waiting = {fault.file for fault in self.hard_faults}
        others = tuple(each for each in self.workflows if each.file not in waiting)
        if not others or not all(fault.in_place for fault in self.hard_faults):
            return self, []
        faults = {file: found for file, found in self.faults.items() if file not in waiting}
        return CheckResult(others, faults, self.warnings, self.exits), self.hard_faults

    @property
    def all_faults(self) -> list[Fault]:
        """Every fault, those of the data too."""
        return [fault for faults in self.faults.values() for fault in faults]


def read_file(
    path: Path, shown: str, vocabulary: Vocabulary, former_places: Mapping[str, str] = MappingProxyType({})
) -> ReadFile:
    """The workflow in that file. Raises SourceFault if it cannot be read as text."""
    try:
        text = read_regular(path).decode("utf-8-sig")
    except FileNotFoundError as error:
        raise SourceFault("there is no such file", where=shown) from error
    except IsADirectoryError as error:
        raise SourceFault("is a folder, and a workflow file is wanted here", where=shown) from error
    except OSError as error:
        raise SourceFault(f"cannot be read: {error.strerror}", where=shown) from error
    except UnicodeDecodeError as error:
        line = path.read_bytes()[: error.start].count(b"\n") + 1
        raise SourceFault(f"is no UTF-8 text (line {line})", where=shown, fix="save it as UTF-8") from error
    if "\x00" in text:
        raise SourceFault("is no text", where=shown, fix="a workflow is a text file")
    workflow, faults = read_workflow(path.stem, shown, text, vocabulary, former_places)
    return ReadFile(path, workflow, faults, text)


def choose_files(workspace: Workspace, names: Sequence[str]) -> list[Path]:
    """The files of the workflows named (by name or path), or all. Raises RequestFault for a name that is none."""
    files = workspace.workflow_files()
    if not names:
        return files
    by_name = {path.stem.lower(): path for path in files}
    chosen = []
    for name in names:
        path = by_name.get(name.lower().removesuffix(".voca"))
        if path is None and ("/" in name or name.endswith(".voca") or Path(name).exists()):
            path = Path(name)
        if path is None:
            raise RequestFault(f'there is no workflow "{name}"', fix=nearest(name, [each.stem for each in files]))
        chosen.append(path)
    return chosen


def choose_workflows(result: CheckResult, names: Sequence[str]) -> list[tree.Workflow]:
    """The workflows named, faulty ones too. Raises RequestFault where one cannot be read at all."""
    if not result.workflows:
        raise RequestFault(f"there is no workflow {', '.join(names)} that can be read")
    return list(result.workflows)


def check_files(
    workspace: Workspace,
    paths: Iterable[Path],
    vocabulary: Vocabulary,
    places: PlaceLook,
    just_read: MutableMapping[Path, ReadFile] | None = None,
) -> CheckResult:
    """Reads and checks these files; all faults at once. ``just_read`` are files already read: each is used once."""
    read: list[ReadFile] = []
    faults: dict[str, Sequence[Fault]] = {}
    for path in paths:
        shown = shown_path(workspace, path)
        try:
            found = just_read.pop(path, None) if just_read else None
            read.append(found if found is not None else read_file(path, shown, vocabulary, workspace.former_places))
        except SourceFault as fault:
            faults[shown] = [Fault(shown, None, fault.message, fault.fix)]
    infos: dict[str, PlaceInfo] = {}
    for each in read:
        for name in expand_places(places_of(each.workflow), places):
            if name.lower() not in infos and (info := places.info(name)) is not None:
                infos[name.lower()] = info
    known = {name.lower(): infos.get(name.lower()) or PlaceInfo(name=name, kind="") for name in places.names()}
    around = FieldContext(_with_kinds(known, places), workspace.people_names, event_type, task_type)
    for each in read:
        faults[each.workflow.file] = check_workflow(each.workflow, each.faults, around)
    _add_circles(read, faults)
    warnings = [f"{info.name}: {warning}" for info in infos.values() for warning in info.warnings]
    for each in read:
        for place in each.workflow.trigger.places:
            if (info := infos.get(place.lower())) is not None and info.key_warning:
                warnings.append(f"{info.name}: {info.key_warning}")
    warnings = list(dict.fromkeys(warnings))
    warnings += _invitation_warnings(read, workspace, places)
    warnings += _of_web(workspace, places, [each.workflow for each in read])
    warnings += [warning for each in read for warning in _old_word_warnings(each)]
    warnings += [f"{each.workflow.file}:{line}: {said}" for each in read for line, said in each.faults.notes]
    exits = tuple(info.trouble_exit for info in infos.values() if info.trouble)
    return CheckResult(tuple(each.workflow for each in read), faults, tuple(warnings), exits)


def _of_web(workspace: Workspace, places: PlaceLook, workflows: Sequence[tree.Workflow]) -> list[str]:
    """What is worth saying of forms and hooks, also of those that no workflow names: they are served all the same."""
    found: list[PlaceInfo] = []
    faults: list[str] = []
    for name in places.names():
        if places.kind_of(name) in _OF_WEB:
            try:
                info = places.info(name)
            except SettingsFault as fault:
                faults.append(f"{fault.where}: {fault.message}")
            else:
                found += [info] if info is not None else []
    return [*faults, *web_warnings(workspace, found, workflows)]


def _with_kinds(known: Mapping[str, PlaceInfo], places: PlaceLook) -> dict[str, PlaceInfo]:
    """Places that no workflow names are not opened; only their kind is told, for “did you mean”."""
    kind_of = places.kind_of
    return {
        name: info if info.kind else PlaceInfo(name=info.name, kind=kind_of(info.name)) for name, info in known.items()
    }


def shown_path(workspace: Workspace, path: Path) -> str:
    """A file as messages call it: from the workspace's folder on."""
    try:
        return Path(os.path.realpath(path)).relative_to(workspace.folder.resolve()).as_posix()
    except ValueError:
        return str(path)


def places_of(workflow: tree.Workflow) -> list[str]:
    """The names of places that a workflow speaks of."""
    names = [*workflow.trigger.places]
    for step in iter_steps(workflow):
        names += step.places
    return list(dict.fromkeys(names))


def expand_places(names: Iterable[str], places: PlaceLook) -> list[str]:
    """The names, with all calendars for a word that stands for any of them."""
    every = [name for name in places.names() if places.kind_of(name) == "calendar"]
    return list(dict.fromkeys(each for name in names for each in (every if name == EVERY_PLACE else [name])))


def written_columns(workflows: Iterable[tree.Workflow]) -> dict[str, list[str]]:
    """The columns that workflows write, by lower-case place: as the workflow writes them, in order."""
    found: dict[str, dict[str, str]] = {}
    for workflow in workflows:
        subject_place = workflow.trigger.places[0] if workflow.trigger.places else ""
        for step in iter_steps(workflow):
            if step.definition.columns_as_fields:
                place = (step.places[-1] if step.places else subject_place).lower()
                columns = found.setdefault(place, {})
                for line in step.fields:
                    if step.definition.field(line.word) is None:
                        columns.setdefault(fold_name(line.word), line.as_written)
    return {place: list(columns.values()) for place, columns in found.items()}


def _old_word_warnings(read: ReadFile) -> list[str]:
    return [
        f'{read.workflow.file}:{each.spot.line}: "{each.old}" is "{each.new}" now; whenvoca tidy {read.workflow.name} '
        "rewrites it"
        for each in read.faults.old_words
    ]


def _add_circles(read: Sequence[ReadFile], faults: dict[str, Sequence[Fault]]) -> None:
    by_file = {each.workflow.file: each for each in read}
    for workflow, step, path in find_circles([each.workflow for each in read]):
        said = " → ".join(path)
        collected = by_file[workflow.file].faults
        collected.add(
            step.spot,
            f"these workflows would start each other without end: {said}",
            "put a where into one of them that ends it",
        )
        faults[workflow.file] = collected.sorted()


def _invitation_warnings(read: Sequence[ReadFile], workspace: Workspace, places: PlaceLook) -> list[str]:
    found = []
    for each in read:
        inviting = [step for step in iter_steps(each.workflow) if any(line.word == "invite" for line in step.fields)]
        for place in dict.fromkeys(step.places[-1] for step in inviting if step.places):
            if said := places.about_invitations(place):
                found.append(f"{each.workflow.name}: {said}")
        if inviting and not workspace.people.organizer:
            found.append(f'{each.workflow.name}: it is not said who invites: organizer = "…" below [workspace]')
    return found
