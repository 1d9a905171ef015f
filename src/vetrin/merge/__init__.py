"""Bringing two sides of a content together that both changed since they were one: values, rows, references.

Values in, values out: nothing of it reads or writes anything. Each side's change is what it made of its own copy of
the common state; so both copies of that state are given, and a value is never compared across sides while nobody
changed it. The side that changes go to is the target, the side that they come from is incoming.
"""

from .common_state import CommonState
from .conflicts import Conflict, Decision, Decisions, Rules, Take, take_of
from .references import IdMaps, Reference, References, Side
from .rows import merge_tables
from .sides import Changed, Key, MergeRules, Neighbours, State, TableSides
from .steps import Agreed, Merged, RowStep
from .texts import merge_texts
from .values import ValueMerge, Versions, merge_value

__all__ = [
    "Agreed", "Changed", "CommonState", "Conflict", "Decision", "Decisions", "IdMaps", "Key", "MergeRules",
    "Merged", "Neighbours", "Reference", "References", "RowStep", "Rules", "Side", "State", "TableSides", "Take",
    "ValueMerge", "Versions", "merge_tables", "merge_texts", "merge_value", "take_of",
]  # fmt: skip
