"""Which occurrences of a series a step is about."""

from __future__ import annotations

from whenvoca.language.definitions import FieldDefinition

THIS_ONE, LATER, ALL = "this one", "this and later", "all of them"
WHICH = FieldDefinition(
    "which",
    "choice",
    "Of an occurrence of a series: that one alone, it and those after it, or the whole series.",
    choices=(THIS_ONE, LATER, ALL),
    default=THIS_ONE,
)
