"""What workflows would take up, found on a copy of the ledger in memory: nothing is written."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection, Iterator, Sequence

from msgspec import Struct, field

from whenvoca.engine.acting.workspace_stage import WorkspaceStage
from whenvoca.engine.lineage import Lineage
from whenvoca.engine.rehearsing.empty_ends import find_empty_ends
from whenvoca.engine.rehearsing.row_clashes import find_row_clashes
from whenvoca.engine.running.open_program import OpenProgram, open_program
from whenvoca.engine.seeing.renamed_workflows import Renamed, find_renamed, find_renamed_place
from whenvoca.engine.workspace.checking import places_of
from whenvoca.errors import WhenvocaError
from whenvoca.language import tree
from whenvoca.language.blocks import iter_steps
from whenvoca.unforeseen import tell_unforeseen

_MOST = 100_000


class Preview(Struct):
    """The subjects that each workflow would run for now, by the workflow's file, and what is said of the others."""

    waiting: dict[str, list[str]] = field(default_factory=dict)
    renamed: list[Renamed] = field(default_factory=list)
    left_out: list[str] = field(default_factory=list)
    renamed_place: str = ""  # what is said where a place seems to have got another name
    doubles: list[str] = field(default_factory=list)  # subjects of which a mirror would find several things
    unforeseen: list[str] = field(default_factory=list)  # workflows whose rows nobody could look at
    empty_ends: list[str] = field(default_factory=list)  # rows that leave an end empty, by workflow
    clashes: list[str] = field(default_factory=list)  # rows that take each other's time, by workflow

    @property
    def notes(self) -> list[str]:
        """What is worth knowing before a run, a sentence each."""
        renamed = [f"{each.said}; {each.fix}" for each in self.renamed]
        if self.renamed_place and not renamed:
            renamed = [self.renamed_place]
        return [*renamed, *self.doubles, *self.empty_ends, *self.clashes, *self.unforeseen]


def preview(stage: WorkspaceStage, workflows: Sequence[tree.Workflow], standing: Collection[str]) -> Preview:
    """What each workflow would run for, on a stage whose ledger is a copy. ``standing``: see ``find_renamed``."""
    found = Preview(renamed=find_renamed(stage.ledger, workflows, standing, stage.workspace.places))
    named = {place for workflow in workflows for place in places_of(workflow)}
    found.renamed_place = find_renamed_place(stage.ledger, named, stage.workspace.places)
    for workflow in workflows:
        try:
            program = open_program(workflow, stage)
            for source in program.sources.values():
                noticed = source.observe(stage.clock.now())
                found.left_out += [each for each in (*noticed.faults, *noticed.waits) if each not in found.left_out]
                program.take_up(source)
            found.doubles += _find_doubles(stage, program)
            waiting = stage.ledger.waiting(workflow.identity, _MOST)
            found.empty_ends += find_empty_ends(program, waiting)
            found.clashes += find_row_clashes(program, waiting)
        except WhenvocaError:
            continue
        except Exception as error:
            found.unforeseen.append(f"{workflow.name}: {tell_unforeseen(error)}")
            continue
        found.waiting[workflow.file] = [occurrence.label for occurrence in waiting]
    return found


def _find_doubles(stage: WorkspaceStage, program: OpenProgram) -> Iterator[str]:
    """Subjects of which steps that are gone made several things, where a mirror has to take one as its own."""
    prefix = Lineage.prefix(stage.workspace.root, program.identity)
    paths = {step.path for step in iter_steps(program.workflow)}
    for step in program.program.mirrors:
        if step.definition.thing == "row":
            continue
        place, by_subject = step.places[-1], defaultdict[tuple[str, str], set[str]](set)
        for mark, uid in stage.ledger.marks_made(stage.calendar(place).name, prefix).items():
            made = Lineage.from_mark(mark)
            if made is not None and made.step not in paths:
                by_subject[made.subject.partition("#")[0], made.repetition].add(uid)
        for (subject, _), uids in by_subject.items():
            noun = step.definition.thing
            standing = [uid for uid in uids if stage.find_event(place, uid)] if len(uids) > 1 else []
            if len(standing) > 1:
                yield (
                    f"{program.workflow.name}: {len(standing)} {noun}s in {place} were made of {subject} before, and a "
                    f"mirror keeps one: delete those that are too many there"
                )
