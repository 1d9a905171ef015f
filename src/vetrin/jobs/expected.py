"""What a transfer makes differ on purpose, so that a comparison can tell that from what differs otherwise."""

from __future__ import annotations

from collections.abc import Callable, Collection

from msgspec.structs import replace

from ..database import Condition
from ..inspect.compare import Expected
from ..site import PrefixedValues, ReadableSite
from .arrival import settling
from .arrival_steps import KeepRows, KeepSettings, SettingStep, tables_of
from .exclusions import left_files, left_kinds, patterns_of, work_out
from .journal import Journals, Run
from .plan import Choices


def expected_between(
    a: ReadableSite,
    b: ReadableSite,
    journals: Journals,
    parts: Collection[str],
    choices: Callable[[Run], Choices],
) -> Expected:
    """What is bound to differ where one of two environments is a copy of the other; nothing where none is.
    ``choices`` are those of the transfer that made it so.

    Raises:
        ProjectError: a choice is not understood any more.
    """
    for source, target in ((a, b), (b, a)):
        last = journals.last_transfer(target.environment.name)
        if last is not None and last.source == source.environment.name:
            return expected_of(source, target, choices(last), data="data" in parts)
    return Expected()


def expected_of(
    source: ReadableSite, target: ReadableSite, choices: Choices, *, data: bool
) -> Expected:
    """What differs on purpose in a ``target`` that was copied from a source with these choices; of its tables only
    where ``data`` came. Raises ProjectError."""
    leave, keep = choices.leave, choices.keep
    found = Expected(
        source=source.environment.name,
        left=left_files(source, leave),
        kept=patterns_of(keep.files, "keep"),
    )
    if not data:
        return found
    stay = frozenset(
        source.prefix + table.name[len(target.prefix) :]
        for table in target.tables
        if any(target.named(table.name, pattern) for pattern in keep.tables)
    )
    there = {table.name for table in source.tables}
    rows = left_kinds(source.definition, leave, choices.arrival)
    stale: dict[str, list[Condition]] = PrefixedValues.between(source, target).stale(source)
    leaving = work_out(source, replace(leave, rows=rows), stale, stay & there)
    own = own_of(source, target, choices)
    says = [*own.says]
    says += [
        f"{kind.name} left out ({kind.rows:,} {'row' if kind.rows == 1 else 'rows'})"
        for kind in leaving.kinds
        if kind.rows
    ]
    says += [f"{name} left out" for name in sorted(leaving.tables)]
    return replace(
        found,
        leave=leaving.leave,
        replacements=leaving.replacements,
        away=leaving.tables,
        settings=own.settings,
        tables=own.tables,
        says=tuple(says),
    )


def own_of(source: ReadableSite, target: ReadableSite, choices: Choices) -> Expected:
    """Of what differs on purpose, the settings and tables that the target kept as its own, or got on arrival. No rows
    of the source are looked at. Raises ProjectError."""
    steps = settling(source, target, choices.keep, choices.arrival).steps
    settings: list[str] = []
    tables: set[str] = set()
    for step in steps:
        if isinstance(step, KeepSettings):
            settings += step.patterns
        elif isinstance(step, SettingStep):
            settings += step.keys
        elif isinstance(step, KeepRows):
            tables |= tables_of(step, source.definition)
    return Expected(
        source=source.environment.name,
        settings=tuple(dict.fromkeys(settings)),
        tables=frozenset(tables),
        says=tuple(step.says() for step in steps),
    )
