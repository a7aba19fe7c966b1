"""Runs that advance together: each round journals the intents of all, carries them out, and hands the receipts on.

The order that makes a kill harmless: intents are committed before they are carried out, receipts after.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from msgspec import Struct, field
from msgspec.structs import replace

from whenvoca.engine.acting.program import TroubleFault
from whenvoca.engine.acting.workspace_stage import WorkspaceStage
from whenvoca.engine.effects import Effect, EffectKey, Receipt
from whenvoca.engine.ledger.records import Journal, JournalEntry, Occurrence
from whenvoca.engine.running.group_run import GroupRun, RunEnds
from whenvoca.engine.running.own_events import note_own_events
from whenvoca.engine.running.unsaved_cells import UnsavedCells
from whenvoca.errors import PlaceTrouble, RowFault, SourceFault, WhenvocaError
from whenvoca.language.evaluation import WaitingFault
from whenvoca.unforeseen import to_fault

_Answer = Receipt | WhenvocaError


class _Asked(Struct, frozen=True):
    """One effect that a run asks for."""

    run: GroupRun
    number: int
    key: EffectKey
    effect: Effect


class _Round(Struct):
    """What is committed together: intents, receipts, ends, our own writes to observed calendars, and what follows."""

    journal: Journal = field(default_factory=Journal)
    written: list[tuple[Effect, Receipt, int]] = field(default_factory=list)
    noted: list[tuple[int, Occurrence, Effect]] = field(default_factory=list)


class Lockstep:
    """Works groups of runs through on a stage."""

    def __init__(self, stage: WorkspaceStage, cells: UnsavedCells, ends: RunEnds) -> None:
        self._stage, self._cells, self._ends = stage, cells, ends
        self._next_effect = stage.ledger.next_effect()

    def advance(self, runs: Sequence[GroupRun]) -> None:
        """Takes these runs to their ends; one whose cells are not saved ends when they are."""
        answers: list[tuple[GroupRun, _Answer | None]] = [(run, None) for run in runs]
        this_round = _Round()
        for run in runs:
            self._book_what_was_done(run, this_round.journal)
        if this_round.journal.receipts:
            self._commit(this_round)
            this_round = _Round()
        while answers:
            going = [(run, answer) for run, answer in answers if not run.outcome]
            asked = [each for run, answer in going if (each := self._next(run, answer)) is not None]
            self._journal_round(this_round.journal, [run for run, _ in answers], asked)
            self._commit(this_round)
            this_round = _Round()
            answers = self._carry_out(asked, this_round)
        self._commit(this_round)

    def _journal_round(self, journal: Journal, runs: Iterable[GroupRun], asked: Iterable[_Asked]) -> None:
        journal.intents += [(each.number, each.run.occurrence.run, each.key, each.effect) for each in asked]
        for run in runs:
            journal.reads += [(run.occurrence.run, *each) for each in run.context.recall.take_fresh()]
            if not run.outcome:
                continue
            if run.outcome == "done":  # what was done before, and is not asked for any more
                run.effects += [
                    each.effect for key, each in run.journal.items() if each.receipt and key not in run.claimed
                ]
            if run.unsaved and run.outcome != "waiting":
                self._cells.wait(run)
            else:
                self._ends.end(run, journal)

    def _book_what_was_done(self, run: GroupRun, journal: Journal) -> None:
        """What was intended before and is found was done by us: only its answer was lost, or the program was killed. A
        run whose place does not say waits."""
        for key, entry in run.journal.items():
            find_done = self._stage.kinds.of(entry.effect).find_done
            if entry.receipt is not None or find_done is None:
                continue
            try:
                found = find_done(self._stage, entry.effect)
            except (PlaceTrouble, SourceFault) as trouble:
                run.end(trouble, waits=not run.must_end)
                return
            if found is not None:
                effect, receipt = found
                journal.receipts.append((entry.number, effect, receipt))
                run.journal[key] = replace(entry, effect=effect, receipt=receipt)

    def _carry_out(self, asked: Sequence[_Asked], this_round: _Round) -> list[tuple[GroupRun, _Answer | None]]:
        """Applies the effects, and answers what came of each."""
        refused = self._save_before(asked)
        going = [each for each in asked if each.number not in refused]
        answers: list[tuple[GroupRun, _Answer | None]] = [
            (each.run, refused[each.number]) for each in asked if each.number in refused
        ]
        numbered = [(each.number, each.effect) for each in going]
        results = self._stage.apply(numbered, self._stage.clock.now()) if going else []
        for each, result in zip(going, results, strict=True):
            self._note(each, result, this_round)
            answers.append((each.run, result))
        return answers

    def _save_before(self, asked: Sequence[_Asked]) -> dict[int, WhenvocaError]:
        """Cells are saved before anything is told to others: what is told is then true. Answers the effects that must
        not happen now, with the trouble of their run's cells."""
        tells = any(self._stage.kinds.of(each.effect).told_as is not None for each in asked)
        if not self._cells.are_pending or not tells:
            return {}
        self._cells.save([each.run for each in asked])
        refused: dict[int, WhenvocaError] = {}
        for each in asked:
            if (trouble := each.run.trouble) is not None:
                refused[each.number], each.run.trouble, each.run.is_abandoned = trouble, None, True
        return refused

    def _commit(self, this_round: _Round) -> None:
        ledger = self._stage.ledger
        with ledger.transaction():
            ledger.commit(this_round.journal)
            for number, occurrence, effect in this_round.noted:
                note = self._stage.kinds.of(effect).note
                assert note is not None
                note(ledger, number, occurrence, effect)
            note_own_events(ledger, self._stage.calendar, this_round.written, self._stage.clock.now())

    def _note(self, asked: _Asked, result: _Answer, this_round: _Round) -> None:
        run, number, effect = asked.run, asked.number, asked.effect
        kind = self._stage.kinds.of(effect)
        if isinstance(result, Receipt):
            if result.is_pending:
                self._cells.pend(number, run, effect)
                return
            this_round.journal.receipts.append((number, effect, result))
            this_round.written.append((effect, result, run.occurrence.run))
            if kind.note is not None:
                this_round.noted.append((number, run.occurrence, effect))
            return
        run.is_abandoned = True
        run.refused.append(effect)
        # what may not be repeated is troubled only where it was surely not done: then it may be done again
        if isinstance(result, RowFault) or run.must_end or kind.may_repeat is not None:
            this_round.journal.failures.append((number, result.reason))

    # --- one run

    def _next(self, run: GroupRun, answer: _Answer | None) -> _Asked | None:
        """Takes the run to its next write that has no receipt yet; None where it has ended, or waits."""
        try:
            while True:
                key, effect = self._hand_on(run, answer)
                run.effects.append(effect)
                entry = run.journal.get(key)
                run.claimed.add(key)
                while entry is not None and entry.receipt and _is_more(effect, entry.effect):
                    key = run.context.next_key(key)
                    entry = run.journal.get(key)
                    run.claimed.add(key)
                if entry is not None and entry.receipt is not None:
                    answer = entry.receipt
                    continue
                self._stage.plan(effect)
                if entry is not None:
                    return _Asked(run, entry.number, key, self._again(effect, entry))
                self._next_effect += 1
                return _Asked(run, self._next_effect - 1, key, effect)
        except StopIteration:
            run.end()
        except WaitingFault as fault:
            run.end(fault, waits=True)
        except RowFault as fault:
            run.end(fault)
        except (PlaceTrouble, SourceFault) as trouble:
            run.end(trouble, waits=not run.must_end)
            run.performing.close()
        except WhenvocaError:
            raise  # what is wrong with the workspace is not the failure of one run
        except Exception as error:
            run.end(to_fault(error))
        return None

    def _hand_on(self, run: GroupRun, answer: _Answer | None) -> tuple[EffectKey, Effect]:
        """Gives the run what came of its last write; answers the next one. Raises what ends it."""
        if answer is None:
            return next(run.performing)
        if isinstance(answer, Receipt):
            return run.performing.send(answer)
        if isinstance(answer, RowFault):
            return run.performing.throw(answer)
        if run.context.gives_up(answer) or run.must_end:
            return run.performing.throw(TroubleFault(answer))
        raise answer

    def _again(self, effect: Effect, entry: JournalEntry) -> Effect:
        """An effect that was begun before a crash. Raises RowFault where it may be done, and twice may do harm."""
        kind = self._stage.kinds.of(effect)
        if kind.may_repeat is not None and not kind.may_repeat(effect):
            raise RowFault(
                f"in doubt: it is not known whether the {effect.verb} was done before the program stopped",
                fix="look there, then: whenvoca retry does it again",
            )
        return replace(effect, before=entry.effect.before) if kind.keeps_before else effect


def _is_more(effect: Effect, done: Effect) -> bool:
    """Whether a change or deletion is one besides what was done before: its subject has changed, or gone, since."""
    if effect.action == "delete":
        return done.action in ("create", "change") and effect.target == done.target
    return effect.event is not None and effect.action == "change" and effect.after != done.after
