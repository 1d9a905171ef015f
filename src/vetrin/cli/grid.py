"""The one table that all commands share.

At a terminal that is too narrow for it, nothing is broken in the middle of a word: each row, or where columns stand
side by side each column, is written as a block of lines. Without a terminal, a row is one line.
"""

from __future__ import annotations

from collections.abc import Collection, Sequence
from typing import Any

from rich import box
from rich.cells import cell_len
from rich.console import Console, ConsoleOptions, RenderResult
from rich.measure import Measurement
from rich.padding import Padding
from rich.table import Table
from rich.text import Text

_UNBOUND = 100_000  # columns, where nothing bounds them


class Grid:
    """A table that is filled row by row. A header that begins with ``>`` is of a column that is set to the right."""

    def __init__(
        self, headers: Sequence[str], title: str | None = None, *, side_by_side: bool = False
    ) -> None:
        self._headers = headers
        self._title = title
        self._side_by_side = side_by_side
        self._rows: list[tuple[list[Text], str]] = []
        self._sections: set[int] = set()

    @property
    def row_count(self) -> int:
        return len(self._rows)

    def add_row(self, *cells: str | Text, style: str = "") -> None:
        found = [cell if isinstance(cell, Text) else Text(cell) for cell in cells]
        self._rows.append((found, style))

    def add_section(self) -> None:
        """What follows is set apart."""
        self._sections.add(len(self._rows))

    def __rich_console__(self, console: Console, options: ConsoleOptions) -> RenderResult:
        if not console.is_terminal:
            yield self._table(one_line=True)
            return
        table = self._table()
        free = options.update(width=_UNBOUND)
        if Measurement.get(console, free, table).minimum <= options.max_width:
            yield table
            return
        wide = self._wide_rows(options.max_width) if self._side_by_side else None
        if wide is None:
            if self._title:
                yield Text(self._title, style="bold")
            yield from self._columns() if self._side_by_side else self._blocks()
        else:
            yield self._table(without=wide)
            yield from self._beside(wide)

    def _wide_rows(self, width: int) -> set[int] | None:
        """The rows without which the columns fit side by side; None where that would be most of them."""
        label = max((cell_len(cells[0].plain) for cells, _ in self._rows), default=0)
        each = (width - label - 2 * len(self._headers)) // max(len(self._headers) - 1, 1)
        found = {
            number
            for number, (cells, _) in enumerate(self._rows)
            if any(_longest(cell) > each for cell in cells[1:])
        }
        fits = all(cell_len(header) <= each for header in self._headers[1:])
        return found if fits and len(found) <= len(self._rows) // 3 else None

    def _beside(self, rows: set[int]) -> RenderResult:
        """Rows that do not fit into the columns: each of their cells on a line of its own."""
        for number in sorted(rows):
            cells, _ = self._rows[number]
            yield Text(" ") + cells[0]
            yield from _lines(self._headers[1:], cells[1:])
        yield ""

    def _table(self, *, one_line: bool = False, without: Collection[int] = ()) -> Table:
        table = Table(
            box=box.SIMPLE_HEAD, title=self._title, title_justify="left", title_style="bold",
            pad_edge=False, header_style="bold",
        )  # fmt: skip
        for header in self._headers:
            table.add_column(
                header.lstrip(">"), justify="right" if header.startswith(">") else "left",
                overflow="fold", no_wrap=one_line,
            )  # fmt: skip
        for number, (cells, style) in enumerate(self._rows):
            if number in without:
                continue
            if number in self._sections and number:
                table.add_section()
            table.add_row(*(_joined(cell) if one_line else cell for cell in cells), style=style)
        return table

    def _blocks(self) -> RenderResult:
        """Each row by itself: what its first cell says, and below it the others."""
        for cells, _ in self._rows:
            yield ""
            yield Text().append_text(cells[0]) if cells[0].plain else Text("—")
            yield from _lines(self._headers[1:], cells[1:])
        yield ""

    def _columns(self) -> RenderResult:
        """Each column by itself: its header, and below it what stands in it."""
        names = [cells[0].plain for cells, _ in self._rows]
        for at, header in enumerate(self._headers[1:], 1):
            yield ""
            yield Text(header.lstrip(">") or " ", style="bold")
            yield from _lines(names, [cells[at] for cells, _ in self._rows])
        yield ""


def _lines(names: Sequence[str], values: Sequence[Text]) -> RenderResult:
    shown = [
        (name.lstrip(">"), value) for name, value in zip(names, values, strict=False) if value.plain
    ]
    wide = max((len(name) for name, _ in shown), default=0)
    for name, value in shown:
        line = Text().append(f"{name:<{wide}}  ", style="dim").append_text(value)
        yield Padding(line, (0, 0, 0, 2))


def _longest(cell: Text) -> int:
    return max((cell_len(word) for word in cell.plain.split()), default=0)


def _joined(cell: Text) -> Text:
    """A cell as one line."""
    return Text("; ").join(cell.split("\n")) if "\n" in cell.plain else cell


def grid(*headers: str, title: str | None = None, **settings: Any) -> Grid:
    """An empty table; ``settings`` as for ``Grid``."""
    return Grid(headers, title, **settings)
