"""What a plan has to say: what is risky about it, what is to be known, and what cannot be."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence

from ..errors import JobError, Refused
from ..files import LINK_OUT, Difference, some_of
from ..remark import Remark
from ..site import ReadableSite, Site, Summary, version_numbers
from .plan import Choices, TablePlan

_MOST = 20  # files that may go without a word


def of_data(source: ReadableSite, target: Site, tables: Sequence[TablePlan]) -> list[Remark]:
    """What the two servers make risky.

    Raises:
        Refused: a value cannot get into the target.
    """
    found = [
        Remark("table-note", f"{item.table.name}: {note}")
        for item in tables
        for note in item.table.notes
    ]
    ours, theirs = target.database.facts(), source.database.facts()
    if ours.max_statement and theirs.max_statement and ours.max_statement < theirs.max_statement:
        found.append(
            Remark(
                "smaller-packets",
                f"{target.environment.name} takes packets of {ours.max_statement:,} bytes, "
                f"{source.environment.name} of {theirs.max_statement:,}: a larger value could be refused",
            )
        )
        for item in tables if ours.bulk_load is False else ():
            _must_fit(source, target, item, ours.max_statement)
    if ours.bulk_load is False:
        found.append(
            Remark(
                "no-bulk-load",
                f"{target.environment.name} forbids LOAD DATA LOCAL: rows go in by INSERT, which takes "
                "about twice as long",
            )
        )
    if ours.product != theirs.product:
        found.append(
            Remark(
                "other-product",
                f"{theirs.product} {theirs.version} goes into {ours.product} {ours.version}: what the "
                "one says differently is translated, and named here",
            )
        )
    return found


def _must_fit(source: ReadableSite, target: Site, item: TablePlan, limit: int) -> None:
    """Raises Refused where a value is longer than what the target takes in one packet."""
    column, longest = source.database.longest(item.table)
    if longest > limit - 4096:
        raise Refused(
            f"{item.table.name}.{column} holds a value of {longest:,} bytes, more than "
            f"{target.environment.name} takes in one packet ({limit:,})",
            "raise max_allowed_packet or permit local_infile there, or leave it out",
        )


def of_versions(
    source: ReadableSite, target: Site, arriving: Summary, overwritten: Summary
) -> list[Remark]:
    """Whether code and CMS are made for one another."""
    theirs, ours = arriving.cms_version, overwritten.cms_version
    if not theirs or not ours or theirs == ours:
        return []
    return [
        Remark(
            "other-version",
            f"{source.environment.name} runs {source.definition.title} {theirs}, "
            f"{target.environment.name} {ours}: its code was made for the other one",
        )
    ]


def of_runtimes(source: ReadableSite, target: Site, theirs: str, ours: str) -> list[Remark]:
    """Whether code goes to where an older version of its language runs."""
    # Code is made for the language as it is where it comes from, or for an older one.
    if not theirs or not ours or version_numbers(ours)[:2] >= version_numbers(theirs)[:2]:
        return []
    return [
        Remark(
            "older-runtime",
            f"{target.environment.name} runs {ours}, {source.environment.name} {theirs}: "
            "the older one may not run its code",
        )
    ]


def of_files(
    source: ReadableSite, target: Site, files: Difference, choices: Choices
) -> list[Remark]:
    """What is risky about the files."""
    name = target.environment.name
    found = [
        Remark(
            "leave-fits-nothing", f"leave: no file of {source.environment.name} fits {pattern!r}"
        )
        for pattern in files.unused
        if pattern in choices.leave.files
    ]
    found += [
        Remark(
            "path-blocked",
            f"{path} of {name} is {reason}: what {source.environment.name} has there does not come"
            if reason == LINK_OUT
            else f"{path} of {name} stays as it is ({reason})",
        )
        for path, reason in files.blocked
    ]
    gone = [entry for entry in files.gone if entry.kind != "folder"]
    if len(gone) > _MOST and len(gone) > files.same + files.files:
        found.append(
            Remark(
                "most-files-go",
                f"most files of {name} go ({len(gone):,}): is everything there in "
                f"{source.environment.name}?",
            )
        )
    return found


def notes_of_files(target: Site, files: Difference, nested: Sequence[str]) -> list[Remark]:
    """What is to be known of the files; ``nested`` are the folders of environments that lie in the source's."""
    found = []
    count = sum(entry.kind != "folder" for entry in files.only_there)
    if count:
        stay = "1 file stays" if count == 1 else f"{count:,} files stay"
        own = (
            f", {files.altered:,} of them changed since they were brought" if files.altered else ""
        )
        found.append(
            Remark("own-files-stay", f"{stay} that only {target.environment.name} has{own}")
        )
    alone = [f"the environment in {path}/" for path in nested]
    alone += _named([e.path for e in files.archives], "archive", "archives")
    for reason in dict.fromkeys(reason for _, reason in files.passed):
        paths = [path for path, why in files.passed if why == reason]
        alone += _named(paths, reason, reason)
    if alone:
        found.append(Remark("left-by-themselves", f"left out by themselves: {'; '.join(alone)}"))
    return found


def must_have_room(source: ReadableSite, target: Site, files: Difference) -> None:
    """Raises JobError where a disk of the target has too little room for what comes."""
    media = source.definition.parts.get("media", ())
    needed: Counter[str] = Counter()
    for entry in (*files.coming, *(e for unit in files.units for e in unit.copies)):
        folder = next((f for f in media if entry.path.startswith(f + "/")), "")
        needed[folder] += entry.size
    free: dict[str, int] = {}
    wanted: Counter[str] = Counter()
    for folder, size in needed.items():
        room = target.files.room(folder)
        free[room.disk] = room.free
        wanted[room.disk] += size
    for disk, size in wanted.items():
        if size > free[disk]:
            raise JobError(
                f"{target.environment.name} has {free[disk]:,} bytes free, the files need {size:,}",
                "make room there, or transfer the data alone with --parts data",
            )


def _named(paths: Sequence[str], one: str, many: str) -> list[str]:
    """“2 archives (a.zip, b.zip)”."""
    if not paths:
        return []
    what = one if len(paths) == 1 else f"{len(paths)} {many}"
    return [f"{what} ({some_of(paths)})"]
