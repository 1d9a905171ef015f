"""Columns that are declared to hold encoded payloads."""

from __future__ import annotations

from ..cms import EncodedRule
from ..database import Batch, Table
from ..rewrite import Rewriter, Tally


def rewrite_payloads(
    rewriter: Rewriter,
    rule: EncodedRule,
    table: Table,
    batch: Batch,
    index: int,
    changed: dict[int, bytes],
    tally: Tally,
) -> None:
    """Open the payloads of a column in the rows that the rule names; new values go to ``changed``."""
    names = [column.name for column in table.columns]
    keys = batch.texts(names.index(rule.key)) if rule.key in names else None
    wanted = rule.is_.encode() if rule.is_ is not None else None
    for row, value in enumerate(batch.texts(index)):
        if not value or row in changed or (wanted is not None and keys and keys[row] != wanted):
            continue
        new = rewriter.rewrite_payload(value, tally)
        if new is not value:
            changed[row] = new
