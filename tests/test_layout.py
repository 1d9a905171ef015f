"""The house: rooms import downwards only, no module imports itself by a way round, and what is written of it is true."""

from __future__ import annotations

import ast
import re
from collections.abc import Iterator
from pathlib import Path

import pytest

from vetrin.cms import site_config
from vetrin.database.engines import ENGINES

HOME = Path(__file__).parent.parent
SOURCE = HOME / "src/vetrin"
# From the top; rooms of one line do not import one another.
ROOMS = (
    ("cli",),
    ("demo",),
    ("report",),
    ("jobs",),
    ("inspect", "archive", "serve"),
    ("store",),
    ("site",),
    ("merge", "remote"),
    ("database", "files"),
    ("config",),
    ("cms", "process"),
    ("rewrite", "append_log", "atomic", "spot", "remark", "remembered", "heap", "prefetch"),
    ("private",),
    ("errors",),
)
FLOOR = {room: number for number, rooms in enumerate(ROOMS) for room in rooms}


def modules() -> dict[str, Path]:
    """The modules by their names below ``vetrin``."""
    found = {}
    for path in sorted(SOURCE.rglob("*.py")):
        name = ".".join(path.relative_to(SOURCE).with_suffix("").parts)
        found[name.removesuffix(".__init__")] = path
    return found


MODULES = modules()


def imports(name: str, path: Path) -> Iterator[tuple[ast.ImportFrom, str, bool]]:
    """What a module imports of the house: where it says so, what, and whether that is needed to load it."""
    tree = ast.parse(path.read_text())
    package = name if path.name == "__init__.py" else name.rpartition(".")[0]
    top = {id(node) for node in tree.body}
    for node in ast.walk(tree):
        if not isinstance(node, ast.ImportFrom):
            continue
        if node.level:
            above = package.split(".")[: len(package.split(".")) - node.level + 1]
            module = ".".join([*above, *([node.module] if node.module else [])])
        elif (node.module or "").startswith("vetrin."):
            module = (node.module or "").removeprefix("vetrin.")
        else:
            continue
        for alias in node.names:
            full = f"{module}.{alias.name}".strip(".")
            yield node, full if full in MODULES else module, id(node) in top


@pytest.mark.parametrize("name", [name for name in MODULES if "." in name or name in FLOOR])
def test_rooms_import_downwards(name: str) -> None:
    room = name.partition(".")[0]
    for node, module, _ in imports(name, MODULES[name]):
        other = module.partition(".")[0]
        if other and other != room and other in FLOOR:
            assert FLOOR[room] < FLOOR[other], f"{name}:{node.lineno} imports {module}"


def test_every_room_has_its_floor() -> None:
    rooms = {name.partition(".")[0] for name in MODULES} - {"__init__", "__main__", ""}
    assert rooms == set(FLOOR)


def test_no_module_imports_itself_by_a_way_round() -> None:
    needs = {
        name: {module for _, module, top in imports(name, path) if top and module in MODULES}
        - {name}
        for name, path in MODULES.items()
    }
    # A package is loaded before what is in it, and hands on what is there by then.
    done: set[str] = set()

    def visit(name: str, way: tuple[str, ...]) -> None:
        assert name not in way, " → ".join([*way[way.index(name) :], name])
        if name not in done:
            for other in needs[name]:
                if MODULES[other].name != "__init__.py":
                    visit(other, (*way, name))
            done.add(name)

    for name in needs:
        visit(name, ())


def test_what_is_imported_later_says_why() -> None:
    """An import inside a function has its reason beside it."""
    for name, path in MODULES.items():
        if path.name == "helper.py" and "helper_scripts" in path.parts:
            continue
        text = path.read_text()
        lines, tree = text.split("\n"), ast.parse(text)
        for function in ast.walk(tree):
            if isinstance(function, ast.FunctionDef | ast.AsyncFunctionDef):
                for node in ast.walk(function):
                    if isinstance(node, ast.Import | ast.ImportFrom):
                        above = lines[node.lineno - 2].strip()
                        said = "#" in lines[node.lineno - 1] or above.startswith(
                            ("#", "import ", "from ")
                        )
                        assert said, f"{name}:{node.lineno} {lines[node.lineno - 1].strip()}"


def test_contracts_say_what_each_method_guarantees() -> None:
    """Of ``Place``, all is as of ``pathlib.Path``."""
    for name, path in MODULES.items():
        for node in ast.walk(ast.parse(path.read_text())):
            bases = map(ast.unparse, node.bases) if isinstance(node, ast.ClassDef) else ()
            if "Protocol" not in bases or name == "cms.site_path":
                continue
            silent = [
                each.name
                for each in node.body
                if isinstance(each, ast.FunctionDef) and not ast.get_docstring(each)
            ]
            assert not silent, f"{name}: {node.name}: {', '.join(silent)}"


# Made for every file, row or piece of a value, where keywords would cost a part of the time.
_BY_PLACE = {"Entry", "FileStatus", "Patch", "Span", "TypeVar"}


def test_values_of_many_fields_are_made_by_name() -> None:
    found = []
    for name, path in MODULES.items():
        for node in ast.walk(ast.parse(path.read_text())):
            if (
                isinstance(node, ast.Call)
                and isinstance(node.func, ast.Name)
                and len(node.args) > 4
            ):
                called = node.func.id
                if called.lstrip("_")[:1].isupper() and called not in _BY_PLACE:
                    found.append(f"{name}:{node.lineno}: {called}")
    assert not found


def test_no_module_gives_a_name_to_two_things() -> None:
    """A constant that is set once more further down has the later value everywhere."""
    twice = []
    for path in sorted(SOURCE.rglob("*.py")):
        names: set[str] = set()
        for node in ast.parse(path.read_text()).body:
            found = node.targets if isinstance(node, ast.Assign) else []
            for one in (name for target in found for name in ast.walk(target)):
                if isinstance(one, ast.Name):
                    twice += [f"{path.name}: {one.id}"] if one.id in names else []
                    names.add(one.id)
    assert not twice


def test_each_engine_that_a_configuration_can_name_is_known() -> None:
    assert set(ENGINES) == set(site_config.ENGINES)
    for engine in ENGINES.values():
        assert engine.quote("a") in ('"a"', "`a`") and callable(engine.fit)


def test_the_map_names_what_is_there() -> None:
    text = (HOME / "docs/development.md").read_text()
    block = text[text.index("src/vetrin/") : text.index("```", text.index("src/vetrin/"))]
    told = re.findall(r"^  ([a-z_]+)(?:/|\.py) ", block, re.MULTILINE)
    assert sorted(told) == sorted(FLOOR)
    for name in re.findall(r"`tests/(test_\w+\.py|attacks/)", text):
        assert (HOME / "tests" / name).exists(), name
    listed = set(re.findall(r"`(?:tests/)?(test_\w+\.py)`", text))
    there = {path.name for path in (HOME / "tests").glob("test_*.py")}
    assert there == listed, there ^ listed


def test_paths_in_the_docs_are_there() -> None:
    for path in [*(HOME / "docs").glob("*.md"), HOME / "README.md", HOME / "SECURITY.md"]:
        for name in re.findall(r"`([a-z_]+/(?:[a-z_]+/)*[a-z_]+\.(?:py|php))`", path.read_text()):
            assert (SOURCE / name).exists() or (HOME / name).exists(), f"{path.name}: {name}"
