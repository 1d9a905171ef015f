"""How a column's stored value is read as bytes and written back, by its type."""

from __future__ import annotations

from ..base import Column

_TEXT = {
    "char", "varchar", "tinytext", "text", "mediumtext", "longtext", "json",
    "binary", "varbinary", "tinyblob", "blob", "mediumblob", "longblob",
}  # fmt: skip
_NUMBERED = {"bit", "enum", "set"}
_ADDRESSES = {"uuid", "inet4", "inet6"}
_GEOMETRIES = {
    "geometry", "point", "linestring", "polygon", "multipoint", "multilinestring",
    "multipolygon", "geometrycollection", "geomcollection",
}  # fmt: skip
WIDE_CHARSETS = {"ucs2", "utf16", "utf16le", "utf32"}


def quote(name: str) -> str:
    return "`" + name.replace("`", "``") + "`"


def read_column(name: str, kind: str, whole: str) -> Column:
    """The column of a type (``bigint``) that is written out as ``whole`` (``bigint(20) unsigned``)."""
    quoted = quote(name)
    if kind in _NUMBERED:
        return Column(
            name=name, type=whole, text=False, read=f"{quoted}+0", write="CAST({} AS UNSIGNED)"
        )
    if kind in _ADDRESSES:
        # From a binary string the server would take their stored bytes; their text is what all servers know.
        return Column(
            name=name,
            type=whole,
            text=False,
            read=f"CAST({quoted} AS CHAR)",
            write="CONVERT({} USING ascii)",
        )
    if kind == "float":
        # The text of a FLOAT is cut to six digits; as a DOUBLE it is whole.
        return Column(name=name, type=whole, text=False, read=f"{quoted}+0e0", write="{}")
    if kind in _GEOMETRIES:
        # The stored form (four bytes for the reference system, then WKB) goes in as it came out.
        return Column(name=name, type=whole, text=False, read=quoted, write="{}")
    if kind == "json":
        return Column(
            name=name, type=whole, text=True, read=quoted, write="CONVERT({} USING utf8mb4)"
        )
    return Column(name=name, type=whole, text=kind in _TEXT, read=quoted, write="{}")
