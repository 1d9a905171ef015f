"""Columns that are declared to hold encoded payloads, or values signed with a site's own secrets."""

from __future__ import annotations

from collections.abc import Mapping

from ..cms import EncodedRule, SignedRule
from ..database import Batch, Table
from ..rewrite import Rewriter, Tally
from ..rewrite.signed import Signing
from .site import ReadableSite, Site

Signed = dict[tuple[str, str], tuple[Signing, ...]]


def signed_between(
    source: ReadableSite, target: Site | None, made: Mapping[str, str] | None = None
) -> Signed:
    """How signed values of a source become those of a target, by table and column of the source.

    ``made`` are the secrets of a configuration that the target gets with this very transfer. Without a target,
    or where one has no secret that is known, they cannot be signed.
    """
    found: Signed = {}
    for rule in source.definition.signed:
        signing = Signing(
            marker=rule.marker.encode(),
            payload=rule.payload,
            signature=rule.signature,
            digest=rule.digest,
            old=_secret(source, rule, source.configuration.secrets),
            new=None
            if target is None
            else _secret(target, rule, made or target.configuration.secrets, settle=source),
        )
        for place in rule.columns:
            table, _, column = place.partition(".")
            key = (source.prefix + table, column)
            found[key] = (*found.get(key, ()), signing)
    return found


def _secret(
    site: ReadableSite,
    rule: SignedRule,
    secrets: Mapping[str, str],
    settle: ReadableSite | None = None,
) -> bytes | None:
    """The secret of a site; with ``settle``, of a target whose settings will be those of that site."""
    parts: list[str] = []
    for at, name in enumerate(rule.secrets):
        value: str | None = secrets.get(name)
        if not value or value == rule.placeholder:
            value = (settle or site).setting(rule.settings[at]) if at < len(rule.settings) else None
        if not value:
            return None
        parts.append(value)
    return "".join(parts).encode()


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
