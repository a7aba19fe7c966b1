"""A sheet as a place: read once while its file stands, written cell by cell, saved once a batch.

Places on one file share one ``OpenFile``, so that two tabs are saved together.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from typing import Any
from zoneinfo import ZoneInfo

from whenvoca.engine.effects import Effect, Receipt
from whenvoca.engine.place_protocols import RowState, SavedRows, SeenRow, Sheet
from whenvoca.engine.row_hashes import RowHashes
from whenvoca.errors import RowFault, SettingsFault, SourceFault, WhenvocaError
from whenvoca.language.definitions import PlaceInfo, column_word
from whenvoca.language.names import fold_name
from whenvoca.places.sheet.grid import NoTab, TabWrites
from whenvoca.places.sheet.open_file import OpenFile, Pending
from whenvoca.places.sheet.rowkeys import key_of_columns
from whenvoca.places.sheet.seen_rows import see_by_columns, see_by_content
from whenvoca.places.sheet.table import Row, SheetSettings, Table, column_infos, read_table
from whenvoca.places.sheet.tabs import advice_on_tabs
from whenvoca.places.sheet.write_plan import WritePlan, merge_cells
from whenvoca.values.kinds import Raw

_MOST_STATES = 12_000  # of rows, kept at hand: more than advance together
_NO_PRINTS = RowHashes()


class SheetPlace(Sheet):
    """A sheet. ``written_words`` are the columns that workflows write, which never make its rows another."""

    def __init__(self, name: str, settings: SheetSettings, zone: ZoneInfo, file: OpenFile) -> None:
        self.name, self.kind, self.zone = name, "sheet", zone
        self.settings = settings
        self.file = settings.file
        self.address = f"{self.file}, {settings.tab}" if settings.tab else self.file
        self.open_file = file
        self.written_words: frozenset[str] = frozenset()
        self.memory: Any = None  # a SheetMemory of what the checker needs, while the file is unchanged
        self.wanted_headings: list[str] = []
        self.signature = "|".join([settings.tab or "", str(settings.header or ""), *settings.key])
        self._info: tuple[str, PlaceInfo] | None = None  # with the hash of the file that it is of
        self._table: Table | None = None
        self._table_digest = ""
        self._rows: dict[str, tuple[int, list[Raw]]] = {}  # number and cells by key, as last scanned
        self.prints = _NO_PRINTS
        self.found: frozenset[str] = frozenset()
        self._overlay: dict[str, dict[str, Raw]] = {}
        self._added: list[dict[str, Raw]] = []
        self._added_keys: set[str] = set()
        self._deleted: set[str] = set()
        self._names: dict[str, str] = {}  # of columns, by their words
        self._states: dict[str, RowState] = {}  # of rows that were asked for lately
        self._holding: dict[str, dict[str, list[str]]] = {}  # keys by what a column holds, for look-ups
        self._equals: dict[tuple[str, ...], Counter[tuple[Raw, ...]]] = {}  # rows by the cells of some columns
        self._formulas: set[tuple[int, int]] | None = None

    # --- looking

    @property
    def tab_name(self) -> str:
        """The tab as the file calls it."""
        return self._table.grid.tab if self._table else (self.settings.tab or self.open_file.backing.new_tab)

    def is_missing(self) -> bool:
        """Whether the file or the tab is still to be made (`create = true`)."""
        if not self.settings.create:
            return False
        if not self.open_file.exists():
            return True
        tabs = self.open_file.backing.tabs(self.open_file.data)
        return self.settings.tab is not None and self.settings.tab.casefold() not in {tab.casefold() for tab in tabs}

    def table(self) -> Table:
        """The table as its file was last looked at. Raises SourceFault, PlaceTrouble or SettingsFault."""
        data = self.open_file.data
        if self._table is None or self._table_digest != self.open_file.digest:
            try:
                grid = self.open_file.backing.load(data, self.settings.tab)
                self._table = read_table(self.file, grid, self.settings, self.file)
            except NoTab as fault:
                fix = advice_on_tabs(self.open_file.backing, data) or fault.fix
                raise SourceFault(fault.message, where=fault.where or self.file, fix=fix) from fault
            except SourceFault as fault:
                raise SourceFault(fault.message, where=fault.where or self.file, fix=fault.fix) from fault
            self._table_digest = self.open_file.digest
            self._rows, self._formulas = {}, None
            self._equals, self._holding, self._names, self._states = {}, {}, {}, {}
        return self._table

    def digest(self) -> str:
        if self.is_missing():
            return ""
        self.open_file.load()
        return self.open_file.digest

    def holds(self) -> str:
        if self.is_missing():
            return "not there yet, made when it is written"
        table = self.table()
        self.notes = self._warnings(table)
        return f"{len(table.rows)} row{'s' * (len(table.rows) != 1)}, headings in row {table.header + 1}"

    def info(self) -> PlaceInfo:
        common: dict[str, Any] = {
            "name": self.name,
            "kind": "sheet",
            "zone": self.zone.key,
            "readonly": self.settings.readonly,
            "totals": self.settings.totals,
            "has_key": bool(self.settings.key),
            "unwritable": self.open_file.backing.unwritable,
        }
        try:
            if self.is_missing():
                return PlaceInfo(**common)
            if self._info is not None and self._info[0] == self.open_file.digest:
                return self._info[1]
            if self.memory is not None and (seen := self.memory.recall(self)) is not None:
                self._info = (self.open_file.digest, seen)
                return seen  # type: ignore[no-any-return]
            table = self.table()
            self._check_keys(table)
        except WhenvocaError as error:
            return PlaceInfo(**common, trouble=error.reason, trouble_fix=error.fix, trouble_exit=int(error.exit_code))
        columns = column_infos(table, self.settings)
        told: dict[str, Any] = {"warnings": self._warnings(table), "key_warning": self._key_warning(table)}
        info = PlaceInfo(**common, **told, columns=columns, twice=table.twice)
        self._info = (self.open_file.digest, info)
        if self.memory is not None:
            self.memory.keep(self, info)
        return info

    def _check_keys(self, table: Table) -> None:
        for column in self.settings.key:
            if fold_name(column_word(column)) not in table.by_word:
                from whenvoca.language.faults import nearest

                fix = nearest(column, [heading.name for heading in table.headings])
                raise SettingsFault(f'its key names a column "{column}" that is not there', where=self.file, fix=fix)
            if column in table.twice:
                raise SettingsFault(f'its key column "{column}" stands twice: {table.twice[column]}', where=self.file)

    def _warnings(self, table: Table) -> tuple[str, ...]:
        stale = "it holds formulas: after a write their results are reckoned anew when it is opened"
        return (*table.grid.notes, *([stale] if table.grid.has_formulas else []))

    def _key_warning(self, table: Table) -> str:
        if self.settings.key:
            return ""
        kept = f' and the UID kept in "{table.booking}"' if table.booking else ""
        return (
            f"its rows are told apart by their content{kept}; with the ledger lost, an edited row would look new. "
            'Name a column that never changes: key = "…"'
        )

    # --- rows

    def scan(self, known: Mapping[str, RowState], prints: RowHashes = _NO_PRINTS) -> Iterable[SeenRow]:
        """The filled rows with their keys, but for those that stand as one of these prints says."""
        table = self.table()
        if self.settings.key:
            seen = see_by_columns(table, self._key_columns(table), prints, self.signature)
        else:
            seen = see_by_content(table, known, self.written_words)
        self.prints, self.found = seen.prints, frozenset(seen.keys)
        self._rows = dict(zip(seen.keys, table.rows, strict=True))
        if seen.plain is not None:
            self._rows = {key: row for key, row in self._rows.items() if key in seen.plain}
        self._states = {}
        if len(seen.rows) <= _MOST_STATES:
            self._states = {each.key: each.state for each in seen.rows if each.key in self._rows}
        return seen.rows

    def _state(self, key: str) -> RowState | None:
        """The row as it was last scanned, None if it was not there."""
        if (known := self._states.get(key)) is not None:
            return known
        row = self._rows.get(key)
        if row is None or self._table is None:
            return None
        if len(self._states) >= _MOST_STATES:
            self._states.clear()
        self._states[key] = state = self._table.state_of(row[1])
        return state

    def _number(self, key: str) -> int | None:
        row = self._rows.get(key)
        return None if row is None else row[0]

    @property
    def is_scanned(self) -> bool:
        return self._table is not None and self._table_digest == self.open_file.digest and bool(self._rows)

    def _key_columns(self, table: Table) -> list[str]:
        return [table.by_word[fold_name(column_word(column))].name for column in self.settings.key]

    def row(self, key: str, state: RowState) -> Row:
        return Row(self.table(), key, state, self._number(key), self.zone, self.name)

    def label(self, key: str) -> str:
        if self.settings.key:
            return key
        number = self._number(key)
        return f"row {number + 1}" if number is not None else "a row"

    def word_of(self, name: str) -> str:
        return fold_name(column_word(name))

    def key_of_row(self, number: int) -> str | None:
        return next((key for key, (row, _) in self._rows.items() if row + 1 == number), None)

    def number_of(self, key: str) -> int:
        return self._rows[key][0]

    def _scanned(self) -> None:
        if not self.is_scanned and not self.is_missing():
            self.scan({})

    def keys(self) -> list[str]:
        self._scanned()
        return [key for key in self._rows if key not in self._deleted]

    def keys_holding(self, column: str, text: str) -> list[str]:
        if column not in self._holding:
            self._scanned()
            name = self.column_name(column)
            index: dict[str, list[str]] = {}
            for key in self._rows:
                raw = (self.current(key) or {}).get(name)
                index.setdefault(raw.strip().casefold() if isinstance(raw, str) else "", []).append(key)
            self._holding[column] = index
        found = self._holding[column]
        wanted = {*found.get(text.strip().casefold(), ()), *found.get("", ())}
        return [key for key in self._rows if key in wanted and key not in self._deleted] if wanted else []

    def current(self, key: str) -> RowState | None:
        if not self._rows:
            self._scanned()
        if key in self._deleted:
            return None
        state, pending = self._state(key), self._overlay.get(key)
        return state if state is None or pending is None else merge_cells(state, pending)

    def rows_below(self, columns: Sequence[str]) -> list[list[Raw]]:
        if self.is_missing():
            return []
        table = self.table()
        indexes = [table.by_word[self.word_of(name)].index for name in columns]
        rows = [[cells[index] if index < len(cells) else None for index in indexes] for _, cells in table.rows]
        return [row for row in rows if any(cell is not None for cell in row)]

    def count_equal(self, cells: Mapping[str, Any]) -> int:
        names = tuple(sorted(cells))
        if names not in self._equals:
            table = None if self.is_missing() else self.table()
            stored = [table.state_of(row) for _, row in table.rows] if table else []
            self._equals[names] = Counter(tuple(state.get(name) for name in names) for state in [*stored, *self._added])
        return self._equals[names][tuple(self.to_raw(name, cells[name]) for name in names)]

    def find_key(self, cells: Mapping[str, Any]) -> str | None:
        if not self.settings.key:
            return None
        columns = (
            [self.column_name(each) for each in self.settings.key]
            if self.is_missing()
            else self._key_columns(self.table())
        )
        state = {name: self.to_raw(name, value) for name, value in cells.items()}
        return key_of_columns({k: v for k, v in state.items() if v is not None}, columns) or None

    def column_name(self, word: str) -> str:
        if self._table_digest == self.open_file.digest and (known := self._names.get(word)) is not None:
            return known
        if self.is_missing():
            return next(
                (each for each in self.wanted_headings if fold_name(column_word(each)) == fold_name(word)), word
            )
        table = self.table()
        heading = table.by_word.get(fold_name(word))
        if heading is None:
            raise RowFault(f'there is no column "{word}"', where=self.file)
        self._names[word] = heading.name
        return heading.name

    def to_raw(self, column: str, value: Any) -> Raw:
        return self.open_file.backing.to_raw(value)

    # --- writing

    def pend(self, number: int, effect: Effect) -> Receipt:
        if effect.action == "fill":
            self.open_file.pending.append(Pending(number, self, effect, {}))
            return Receipt(is_pending=True)
        cells = effect.after or {}
        raws = {name: self.to_raw(name, value) for name, value in cells.items()}
        if all(raws[name] is value for name, value in cells.items()):
            raws = cells  # one dictionary instead of two, a hundred thousand times
        if effect.action == "change":
            state = self.current(effect.target)
            if state is None:
                raise RowFault("the row is no longer in the sheet", where=self.file)
            self._refuse_formulas(effect.target, cells)
            self._overlay.setdefault(effect.target, {}).update(raws)
            for name in raws if self._holding else ():
                self._holding.pop(self.word_of(name), None)
        elif effect.action == "delete":
            self._pend_deletion(effect)
        elif effect.action == "put back":
            self._equals.clear()
        else:
            self._refuse_added(effect)
            self._added.append({name: raw for name, raw in raws.items() if raw is not None})
            for names, counts in self._equals.items():
                counts[tuple(raws.get(name) for name in names)] += 1
        self.open_file.pending.append(Pending(number, self, effect, raws))
        return Receipt(is_pending=True)

    def _pend_deletion(self, effect: Effect) -> None:
        """Raises RowFault where the row is gone, or the file's format cannot take rows out."""
        if self.current(effect.target) is None:
            raise RowFault("the row is no longer in the sheet", where=self.file)
        if self.settings.readonly:
            raise RowFault("the sheet is read-only", where=self.file)
        self._deleted.add(effect.target)
        self._holding.clear()
        self._equals.clear()

    def _refuse_added(self, effect: Effect) -> None:
        """Raises RowFault where a row must not be put below the others."""
        if self.settings.totals:
            raise RowFault("a totals line stands below the rows", where=self.file, fix="add the rows to another sheet")
        if effect.target and effect.target in self._added_keys:
            raise RowFault(f'a row "{effect.target}" is being added already', where=self.file)
        self._added_keys.add(effect.target)

    def _refuse_formulas(self, key: str, cells: Mapping[str, Any]) -> None:
        table = self.table()
        if not table.grid.has_formulas:
            return
        if self._formulas is None:
            self._formulas = self.open_file.backing.find_formulas(self.open_file.data, self.tab_name)
        row = self._rows[key][0]
        for name in cells:
            column = table.by_word[fold_name(column_word(name))].index
            if (row, column) in self._formulas:
                raise RowFault(
                    "holds a formula, which is not written over",
                    where=table.where(row, column),
                    fix="write to another column",
                )

    def plan_writes(self, data: bytes | None, mine: list[Pending], result: SavedRows) -> TabWrites:
        """Where the pending cells are in the file as it is now; what cannot be written goes into ``result.errors``."""
        is_new = data is None or self.is_missing()
        if not is_new:
            self._refresh()
        numbers = {key: number for key, (number, _) in self._rows.items()}
        plan = WritePlan(
            None if is_new else self.table(), self.wanted_headings, numbers, result, totals=self.settings.totals
        )
        for each in mine:
            if each.effect.action not in ("change", "delete"):
                plan.add(each)
            elif (fault := self._conflict(each)) is not None:
                result.errors[each.number] = fault
            else:
                plan.on_row(each, self._state(each.effect.target) or {})
        return plan.done()

    def _refresh(self) -> None:
        """Finds the rows again by their keys if the file changed since it was scanned."""
        if not self.is_scanned:
            self.scan({key: state for key in self._rows if (state := self._state(key)) is not None})

    def _conflict(self, pending: Pending) -> WhenvocaError | None:
        effect = pending.effect
        state = self._state(effect.target)
        if state is None:
            return RowFault(f"{self.label(effect.target)} is no longer in the sheet", where=self.file)
        before = effect.before or {}
        if effect.action == "delete" and merge_cells(state, self._overlay.get(effect.target, {})) != before:
            return RowFault(f"{self.label(effect.target)} was changed by another hand meanwhile", where=self.file)
        for name, raw in pending.raws.items():
            if state.get(name) not in (before.get(name), raw):
                table = self.table()
                cell = table.where(self._rows[effect.target][0], table.by_word[fold_name(column_word(name))].index)
                return RowFault("was changed by another hand meanwhile, and is left as it is", where=cell)
        return None

    def mark_saved(self, saved: SavedRows) -> None:
        """After a save: what was pending is now what stands, and the table is brought up to date without reading it."""
        if self._table is None or saved.added or saved.gone or self._table_digest == "":
            self._table = None
        else:
            self._bring_up_to_date(self._table, saved)
            self._table_digest = self.open_file.digest
            if self.memory is not None:
                self.memory.forget(self)
        self._overlay, self._added, self._equals = {}, [], {}
        self._added_keys.clear()
        self._deleted.clear()
        self._holding.clear()

    def _bring_up_to_date(self, table: Table, saved: SavedRows) -> None:
        changed: set[str] = set()
        self._states.clear()
        indexes = {heading.name: heading.index for heading in table.headings}
        for key, state in saved.states.items():
            cells = self._rows[key][1]
            for name in self._overlay.get(key, {}):
                index = indexes[name]
                if len(cells) <= index:
                    cells.extend([None] * (index + 1 - len(cells)))
                cells[index] = state.get(name)
                changed.add(name)
        table.read_again(changed)
