"""Puts a workspace together: settings, places, vocabulary. What every command begins with, without Click."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator, Sequence
from pathlib import Path

from msgspec import Struct, field
from msgspec.structs import replace

from whenvoca.engine.acting.effect_kind import EffectKinds
from whenvoca.engine.acting.workspace_stage import WorkspaceStage
from whenvoca.engine.all_places import Places
from whenvoca.engine.clock import Clock
from whenvoca.engine.ledger.protocol import Ledger
from whenvoca.engine.ledger.sqlite import SqliteLedger
from whenvoca.engine.workspace.checking import (
    CheckResult,
    ReadFile,
    check_files,
    choose_files,
    read_file,
    shown_path,
    written_columns,
)
from whenvoca.engine.workspace.ledger_home import rename_places
from whenvoca.engine.workspace.settings import Workspace, ensure_root, find_workspace, load_workspace
from whenvoca.errors import SourceFault
from whenvoca.language.definitions import Vocabulary
from whenvoca.places.open_places import OpenPlaces
from whenvoca.steps import STEPS
from whenvoca.steps.invitations import INVITATION_EFFECT
from whenvoca.triggers import TRIGGERS
from whenvoca.values.zones import load_zone

VOCABULARY = Vocabulary(STEPS, TRIGGERS)
EFFECT_KINDS = EffectKinds(
    [*(kind for step in STEPS for kind in step.effects), INVITATION_EFFECT],
    [step.follow for step in STEPS if step.follow is not None],
)


class OpenWorkspace(Struct):
    """An opened workspace."""

    workspace: Workspace
    places: OpenPlaces
    clock: Clock
    new_root: str = ""  # the root that had to be made, to be told
    # workflow files as they were read when it was opened, each for one check
    read: dict[Path, ReadFile] = field(default_factory=dict)

    def names(self) -> set[str]:
        """What all workflow files are called, and were formerly."""
        formerly = {each.workflow.identity for each in self.read.values()}
        return formerly | {path.stem for path in self.workspace.workflow_files()}

    def stage(self, ledger: Ledger, places: Places | None = None) -> WorkspaceStage:
        """A stage with that record, on the workspace's places unless others are given."""
        return WorkspaceStage(self.workspace, places or self.places, ledger, self.clock, EFFECT_KINDS)

    @contextlib.contextmanager
    def copied_ledger(self) -> Iterator[Ledger]:
        """A copy of the ledger in memory, an empty one where there is none: for what writes nothing.

        Raises PlaceTrouble where it cannot be read.
        """
        with contextlib.closing(SqliteLedger.copy_of(self.workspace.state_folder / "ledger.sqlite")) as copy:
            rename_places(copy, self.workspace)
            yield copy

    def check(self, names: Sequence[str] = ()) -> CheckResult:
        """Checks the workflows named, or all. Raises RequestFault for a name that no workflow has."""
        return check_files(self.workspace, choose_files(self.workspace, names), VOCABULARY, self.places, self.read)


def open_workspace(folder: Path | None, clock: Clock, *, zone: str = "", with_root: bool = False) -> OpenWorkspace:
    """The workspace in ``folder``, or the nearest one upwards from here; ``with_root`` makes a missing root.

    Raises SettingsFault if there is none or its settings are wrong.
    """
    workspace = load_workspace(folder if folder is not None else find_workspace())
    if zone:
        workspace = replace(workspace, zone=load_zone(zone))
    made = ensure_root(workspace) if with_root else ""
    if made:
        workspace = replace(workspace, root=made)
    read = _readable(workspace)
    written = written_columns(each.workflow for each in read.values())
    places = OpenPlaces(workspace, clock, written=written)
    return OpenWorkspace(workspace, places, clock, made, read)


def _readable(workspace: Workspace) -> dict[Path, ReadFile]:
    """The workflows that can be read at all, faulty ones too: what they write counts as written."""
    found = {}
    for path in workspace.workflow_files():
        with contextlib.suppress(SourceFault):
            found[path] = read_file(path, shown_path(workspace, path), VOCABULARY, workspace.former_places)
    return found
