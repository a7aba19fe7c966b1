"""What the compiler makes of lengths of time: spans, reminders, working days."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Container
from datetime import date
from decimal import Decimal
from typing import Any, cast

from whenvoca.errors import RowFault
from whenvoca.language import tree
from whenvoca.values.durations import Duration, sum_durations
from whenvoca.values.kinds import is_empty
from whenvoca.values.texts import show_value
from whenvoca.values.working_days import WorkingDays


class SpanWords:
    """The compiler's part for lengths; ``value`` is the compiler's. ``days_off`` are the days that are no working
    days."""

    days_off: Container[date]

    def value(self, node: tree.Node) -> Callable[[Any], Any]:
        """The function that gives a node's value."""
        raise NotImplementedError

    def _build_workingspan(self, node: tree.WorkingSpan) -> Callable[[Any], Any]:
        amount, off = self.value(node.amount), self.days_off

        def counted(scope: Any) -> WorkingDays | None:
            given = amount(scope)
            if is_empty(given):
                return None
            if isinstance(given, bool) or not isinstance(given, int | Decimal) or given != int(given):
                raise RowFault(f"{show_value(given)} is no whole number of working days")
            return WorkingDays(int(given), off)

        return counted

    def _build_span(self, node: tree.Span) -> Callable[[Any], Any]:
        pieces = [(self.value(amount), unit) for amount, unit in node.pieces]
        if all(isinstance(amount, tree.Literal) and isinstance(amount.value, int) for amount, _ in node.pieces):
            with contextlib.suppress(RowFault):
                known = sum_durations(
                    Duration.of(cast("tree.Literal", amount).value, unit) for amount, unit in node.pieces
                )
                return lambda scope: known

        def total(scope: Any) -> Duration | None:
            amounts = [(amount(scope), unit) for amount, unit in pieces]
            if any(is_empty(amount) for amount, _ in amounts):
                return None
            for amount, unit in amounts:
                if not isinstance(amount, int | Decimal):
                    raise RowFault(f"{show_value(amount)} {unit}s is no duration")
            return sum_durations(Duration.of(amount, unit) for amount, unit in amounts)

        return total

    def _build_offset(self, node: tree.Offset) -> Callable[[Any], Any]:
        span, before = self.value(node.span), node.before
        return lambda scope: None if (given := span(scope)) is None else (-given if before else given)
