"""A picture of where an environment's bytes are."""

from __future__ import annotations

from importlib.util import find_spec
from pathlib import Path
from typing import Any

from ..errors import UsageError
from ..inspect.survey import Survey

_MOST = 14
_COLOURS = {
    "content": "#2f6f5e", "visitors": "#4f7cac", "log": "#b5651d", "cache": "#c9a227",
    "index": "#8e5572", "media": "#4f7cac", "code": "#2f6f5e", "core": "#9a9a94",
}  # fmt: skip
FORMATS = (".png", ".svg", ".pdf")


def must_be_drawable(path: Path) -> None:
    """Raises UsageError where the file's name has none of the endings, or what draws is not installed."""
    if path.suffix.lower() not in FORMATS:
        raise UsageError(f"{path.name}: the name has to end with {', '.join(FORMATS)}")
    if find_spec("matplotlib") is None:
        raise UsageError(
            "drawing needs Matplotlib, which is not installed", "pip install 'vetrin[plot]'"
        )


def plot_survey(survey: Survey, path: Path) -> None:
    """Draw tables and folders as bars by size, coloured by role and part; PNG, SVG or PDF.

    Raises:
        UsageError: as ``must_be_drawable``.
        OSError: it cannot be written.
    """
    must_be_drawable(path)
    # Loaded only where something is drawn.
    import matplotlib

    matplotlib.use("Agg")
    # Only now, as it looks for a screen otherwise.
    from matplotlib import pyplot

    figure, axes = pyplot.subplots(1, 2, figsize=(12.8, 7.2), dpi=100, layout="constrained")
    standing = survey.standing
    figure.suptitle(
        f"{standing.title or standing.environment} · {standing.environment}: where the bytes are",
        fontsize=15, x=0.01, ha="left",
    )  # fmt: skip
    tables = [(item.name, item.size, item.role) for item in survey.tables]
    folders = [
        ("(the root itself)" if item.path == "." else item.path, item.size, item.part)
        for item in survey.folders
    ]
    _panel(axes[0], "Tables", tables)
    _panel(axes[1], "Folders", folders)
    try:
        figure.savefig(path)
    finally:
        pyplot.close(figure)


def _panel(axis: Any, title: str, items: list[tuple[str, int, str]]) -> None:
    # Loaded only where something is drawn.
    from matplotlib.patches import Patch
    from matplotlib.ticker import FuncFormatter

    total = sum(size for _, size, _ in items)
    shown = items[:_MOST]
    rest = items[_MOST:]
    if rest:
        shown = [*shown, (f"{len(rest)} smaller ones", sum(size for _, size, _ in rest), "")]
    names = [name if len(name) <= 34 else "…" + name[-33:] for name, _, _ in shown]
    places = range(len(shown))
    bars = axis.barh(
        places, [size for _, size, _ in shown],
        color=[_COLOURS.get(role, "#d5d2ca") for _, _, role in shown],
    )  # fmt: skip
    axis.set_yticks(places, names)
    # As thick with a few bars as with many.
    axis.set_ylim(max(len(shown), 10) - 0.4, -0.6)
    axis.bar_label(bars, [_size(size) for _, size, _ in shown], padding=4, fontsize=9)
    axis.set_title(f"{title}: {_size(total)}", loc="left", fontsize=12)
    axis.xaxis.set_major_formatter(FuncFormatter(lambda value, _: _size(int(value))))
    axis.margins(x=0.16)
    axis.spines[["top", "right"]].set_visible(False)
    axis.tick_params(axis="x", labelsize=9)
    roles = dict.fromkeys(role for _, _, role in shown if role)
    axis.legend(
        handles=[Patch(color=_COLOURS.get(role, "#d5d2ca"), label=role) for role in roles],
        loc="lower right", frameon=False,
    )  # fmt: skip


def _size(count: int) -> str:
    value, units = float(count), ["B", "kB", "MB", "GB", "TB"]
    while value >= 999.5 and len(units) > 1:
        value /= 1000
        del units[0]
    return (
        f"{value:.0f} {units[0]}" if value >= 10 or units[0] == "B" else f"{value:.1f} {units[0]}"
    )
