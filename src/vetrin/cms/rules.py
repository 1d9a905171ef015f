"""The rules that a definition is made of. Table names are without the site's prefix."""

from __future__ import annotations

import difflib
import re
from collections.abc import Mapping, Sequence
from typing import Any, TypeVar

from msgspec import Struct

from ..errors import DefinitionError

Rule = TypeVar("Rule", bound=Struct)
Where = Mapping[str, Any]

_ENCODED = re.compile(r"(\w+)\.(\w+)(?: where (\w+)=(.+))?$")
_PLACE = re.compile(r"(\w+)\.(\w+)$")
TESTS = (
    "begins",
    "ends",
    "contains",
    "below",
    "above",
    "not",
    "in",
    "not-in",
    "where",
    "replaced",
    "without",
)


class ValueAt(Struct, frozen=True):
    """A value inside a file: the file, how to read it, and the value's name there."""

    file: str
    reader: str
    value: str


class ConfigurationRule(Struct, frozen=True):
    """Where the CMS keeps its database's name, account and prefix.

    ``secrets`` are values that each copy has for itself; ``engines`` says which engine a value of
    ``values["engine"]`` stands for.
    """

    files: tuple[str, ...] = ()
    reader: str = "php"
    engine: str = "mysql"
    values: Mapping[str, str | Sequence[str]] = {}
    engines: Mapping[str, str] = {}
    stop_at: tuple[str, ...] = ()
    secrets: tuple[str, ...] = ()


class RuntimeRule(Struct, frozen=True):
    """The language that the CMS runs in, and a command that prints its version.

    ``settles`` is for how many seconds it may go on running code that was replaced.
    """

    title: str
    command: tuple[str, ...]
    settles: float = 0.0


class ServeRule(Struct, frozen=True):
    """How a copy is served on this machine: by ``command``, in which ``{python}`` (of the site), ``{root}``,
    ``{host}`` and ``{port}`` are filled in; or by PHP's own web server, where ``front`` is the script that answers
    all addresses that are no file.

    ``version`` is a file and the name in it of the least version of PHP, ``modules`` are the extensions of PHP that
    it needs.
    """

    command: tuple[str, ...] = ()
    front: str = ""
    version: tuple[str, ...] = ()
    modules: tuple[str, ...] = ()


class MaintenanceRule(Struct, frozen=True):
    """A file that holds visitors off while it is there, and its text; ``{now}`` in it is the time at which it
    is written, in seconds since 1970."""

    file: str
    text: str = ""


class SettingsRule(Struct, frozen=True):
    """The table of settings, and which of them hold the site's title and addresses.

    ``id`` is a number that the table gives to each row, if it has one.
    """

    table: str
    name: str
    value: str
    id: str | None = None
    title: str | None = None
    addresses: tuple[str, ...] = ()


class NamedSetting(Struct, frozen=True):
    """Settings that belong together under one name; keys may end with ``*``.

    ``values`` gives words for values, such as hidden for "0"; ``compare``: two environments are
    compared by it.
    """

    name: str
    keys: tuple[str, ...]
    values: Mapping[str, str] = {}
    compare: bool = False


class EntriesRule(Struct, frozen=True):
    """The table of entries that visitors see, for samples and for the newest one.

    ``kind`` and ``state`` are the columns that say what an entry is and whether it is public.
    """

    table: str
    id: str
    title: str
    changed: str
    link: str
    where: Where = {}
    kind: str | None = None
    state: str | None = None


class CountRule(Struct, frozen=True):
    """Rows of a table that a summary counts, under a name."""

    name: str
    table: str
    where: Where = {}


class RowsRule(Struct, frozen=True):
    """A kind of rows that a transfer can leave out; several rules may share one name.

    ``suggested``: a copy seldom needs them.
    """

    name: str
    table: str
    where: Where = {}
    suggested: bool = True


class LinkRule(Struct, frozen=True):
    """Rows of one table that belong to rows of another: ``from_`` holds a value of ``to``.

    ``then`` says what happens to them when their owner is left out: they are left out too
    (``leave``), or the column is set to ``value`` (``clear``). With ``through``, the value stands in
    ``through_column`` of a row of a third table whose ``through`` column holds ``from_``.
    """

    from_: str
    to: str
    where: Where = {}
    then: str = "leave"
    value: int | str | None = 0
    through: str | None = None
    through_column: str | None = None
    through_where: Where = {}

    @property
    def table(self) -> str:
        return self.from_.partition(".")[0]

    @property
    def column(self) -> str:
        return self.from_.partition(".")[2]

    @property
    def owner(self) -> tuple[str, str]:
        table, _, column = self.to.partition(".")
        return table, column


class ReferenceRule(Struct, frozen=True):
    """Where numbers of rows of ``to`` stand beside those of ``LinkRule``, so that they can follow a row that gets
    another number in a merge.

    Either in the columns ``at``, in rows that meet ``where``: as the whole value, as a list of several with commas
    between them (``list_``), or in structured values at ``paths`` of keys (``locations.*``), where ``keys`` says that
    the number is the last key itself. Or in the texts that ``MergeRule`` names: where one of ``patterns`` fits, with
    {id} or {ids} (a list with commas) in it, in attributes of ``shortcodes`` (each as the name and the attribute),
    and in those of blocks, each as the name of the block and the path of the attribute; of blocks with the values of
    ``block_where`` in their attributes only.
    """

    to: str
    at: tuple[str, ...] = ()
    where: Where = {}
    list_: bool = False
    paths: tuple[str, ...] = ()
    keys: bool = False
    patterns: tuple[str, ...] = ()
    shortcodes: tuple[str, ...] = ()
    blocks: tuple[str, ...] = ()
    block_where: Mapping[str, str] = {}

    @property
    def table(self) -> str:
        """The table whose numbers these are."""
        return self.to.partition(".")[0]


class NaturalRule(Struct, frozen=True):
    """By what two rows are the same, whatever their numbers: the columns ``key``, and those of ``also`` in the row of
    another table whose ``through`` column holds this one's number.

    ``several``: a row is the same only where each side has one of that key. The values of ``own`` are never asked
    about: each side keeps what it has.
    """

    table: str
    key: tuple[str, ...]
    through: str | None = None
    also: tuple[str, ...] = ()
    several: bool = False
    own: tuple[str, ...] = ()


class DistinctRule(Struct, frozen=True):
    """A name that no two rows may have, though the database would let them: the text in ``column``, among rows that
    have the same values in ``among`` and meet ``where``. One that comes second gets a number behind it."""

    table: str
    column: str
    among: tuple[str, ...] = ()
    where: Where = {}


class NumberedRule(Struct, frozen=True):
    """Structured values in the column ``at``, in rows that meet ``where``, whose keys are numbers that the site gives
    one after the other. What is called after such a key is written as ``called``, with {name}, what the row's
    column ``name`` holds ``without`` its beginning, and {key} in it, in the columns ``in_``."""

    at: str
    name: str
    called: str
    in_: tuple[str, ...]
    where: Where = {}
    without: str = ""


class SetRule(Struct, frozen=True):
    """Lists in which only counts what is in them: in the column ``at``, in rows that meet ``where``, at ``paths`` of
    keys; without a path the value itself."""

    at: str
    where: Where = {}
    paths: tuple[str, ...] = ("",)


class MergeRule(Struct, frozen=True):
    """How content of two environments is merged.

    ``own`` are settings that each environment has for itself, ``leave`` kinds of rows that are not merged,
    ``drop`` kinds that the CMS makes anew once something was merged, ``latest`` columns of times of which the later
    one stands, ``texts`` the columns that ``ReferenceRule`` looks for numbers in, ``file_names`` those that name
    media files without their folder. Columns are written as ``table.column`` or ``table.column where key=value``.
    """

    own: tuple[str, ...] = ()
    leave: tuple[str, ...] = ()
    drop: tuple[str, ...] = ()
    latest: tuple[str, ...] = ()
    texts: tuple[str, ...] = ()
    file_names: tuple[str, ...] = ()


class VisitorsRule(Struct, frozen=True):
    """Rows that visitors may have made, in a table that holds others as well: those that meet ``where``. Before a
    merge removes one from production, it asks."""

    table: str
    where: Where = {}


class RecountRule(Struct, frozen=True):
    """A column that holds how many rows of another table belong to its row.

    Those rows have the row's ``key`` in ``of``; only those that meet ``where`` are counted.
    """

    column: str
    key: str
    of: str
    where: Where = {}


class KeptRows(Struct, frozen=True):
    """Rows that an environment can keep under a name, such as its administrators.

    A row of the source with the same value in ``same`` is the same one; ``id`` is its number. The
    rows of ``with_`` (``table.column``) that hold the number come along.
    """

    name: str
    table: str
    same: str
    id: str
    where: Where = {}
    with_: tuple[str, ...] = ()


class ExtensionRule(Struct, frozen=True):
    """Parts of the site's code that can be active or not: plugins, themes.

    ``files`` are looked for below ``folder``; ``reader`` is ``header`` (lines ``Name: value``),
    ``toml`` or ``json``. ``active`` is the setting that lists the active ones, by their file below
    the folder or, with ``by = "folder"``, by their folder; None: all that are there are active. ``needs`` is what the
    least version of the runtime is called where ``title`` and ``version`` stand.
    """

    name: str
    folder: str
    files: tuple[str, ...]
    reader: str = "header"
    title: str = "title"
    version: str = "version"
    active: tuple[str, ...] = ()
    by: str = "file"
    needs: str = ""


class ArrivalRule(Struct, frozen=True):
    """What can be settled on arrival: kinds of rows that are caches or address rules, and folders
    of cached files."""

    caches: tuple[str, ...] = ()
    cache_folders: tuple[str, ...] = ()
    address_rules: tuple[str, ...] = ()


class AddressRules(Struct, frozen=True):
    """A file of the web server with lines that hold the folder of the site's address as {base}."""

    file: str
    lines: tuple[str, ...]


class CopyRule(Struct, frozen=True):
    """How a copy is marked, closed to visitors, and its mail turned off.

    Either by a file (``file``, ``text`` with {{name}}, {{marker}}, {{mail}}, {{closed}}) or by
    settings, each with the text for on and for off.
    """

    file: str | None = None
    text: str = ""
    marker: str | None = None
    mail: Mapping[str, str] = {}
    closed: Mapping[str, str] = {}


class AddressColumns(Struct, frozen=True):
    """A table that holds the site's host, port and scheme in columns of their own."""

    table: str
    host: str
    port: str | None = None
    where: Where = {}


class SignedRule(Struct, frozen=True):
    """Values in texts that a site signs with its own secrets (see ``rewrite/signed.py``).

    ``columns`` are those whose texts hold such, as ``table.column``. The secret is what ``secrets`` of the
    configuration hold, one behind the other; in place of one that is missing or still the ``placeholder``, the
    setting of the same place in ``settings``.
    """

    columns: tuple[str, ...]
    marker: str
    payload: str
    signature: str
    digest: str
    secrets: tuple[str, ...]
    settings: tuple[str, ...] = ()
    placeholder: str = ""


class EncodedRule(Struct, frozen=True):
    """A column that holds encoded payloads, in all rows or where ``key`` is ``is_``.

    Written as ``table.column`` or ``table.column where key=value``.
    """

    table: str
    column: str
    key: str | None = None
    is_: str | None = None

    @classmethod
    def parse(cls, text: str) -> EncodedRule:
        """Raises DefinitionError where the text is not of this form."""
        match = _ENCODED.match(text)
        if match is None:
            raise DefinitionError(f"{text!r}: write table.column, or table.column where key=value")
        return cls(*match.groups())


class CheckRule(Struct, frozen=True):
    """``broken`` are texts of a page that the CMS shows where its code fails."""

    login: str | None = None
    login_mark: str | None = None
    broken: tuple[str, ...] = ()


def known(data: Mapping[str, Any], allowed: Sequence[str], where: str) -> None:
    """Raises DefinitionError for a key that is not among ``allowed``; names the nearest one."""
    for key in data:
        if key not in allowed:
            near = difflib.get_close_matches(key, allowed, 1)
            raise DefinitionError(
                f"{where}: unknown key {key}" + (f"; did you mean {near[0]}?" if near else "")
            )


def read_rule(rule: type[Rule], data: object, where: str) -> Rule:
    """Make a rule from a table of the file; its keys are the rule's fields, with dashes.

    Raises:
        DefinitionError: a key is unknown or missing, or a condition is not well formed.
    """
    if not isinstance(data, Mapping):
        raise DefinitionError(f"{where}: write a table")
    # Not by fields(), which works out types: this is done for each rule, in each command.
    names = rule.__struct_fields__
    keys = {name.rstrip("_").replace("_", "-"): name for name in names}
    known(data, list(keys), where)
    values: dict[str, Any] = {}
    for key, name in keys.items():
        if key in data:
            value = data[key]
            values[name] = tuple(value) if isinstance(value, list) else value
            if isinstance(value, str) and rule.__annotations__[name].startswith("tuple"):
                values[name] = (value,)
            if key.endswith("where") and key != "block-where":
                check_where(value, f"{where} {key}")
            if key in ("from", "to", "through", "of", "with", "at"):
                for one in [value] if isinstance(value, str) else value:
                    if not _PLACE.match(str(one)):
                        raise DefinitionError(f"{where} {key}: write table.column")
        elif name in names[: len(names) - len(rule.__struct_defaults__)]:
            raise DefinitionError(f"{where}: lacks {key}")
    return rule(**values)


def check_where(where: object, place: str) -> None:
    """Raises DefinitionError where a condition is not of the form that docs/definitions.md tells."""
    if not isinstance(where, Mapping):
        raise DefinitionError(f"{place}: write a table of columns")
    for column, wanted in where.items():
        if isinstance(wanted, Mapping):
            known(wanted, TESTS, f"{place}.{column}")
            if "in" in wanted and not _PLACE.match(str(wanted["in"])):
                raise DefinitionError(f"{place}.{column} in: write table.column")
            if "where" in wanted:
                check_where(wanted["where"], f"{place}.{column}")
        elif not isinstance(wanted, (str, int, list)):
            raise DefinitionError(f"{place}.{column}: write a value, a list of values or a table")
