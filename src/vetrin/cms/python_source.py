"""Reading values out of Python settings files, without running them.

An evaluator over the syntax tree for what settings modules do: literals, names, paths below
``__file__``, joins and concatenations, environment variables with defaults, and star imports from
neighbouring modules. What only running the file could tell is left out.
"""

from __future__ import annotations

import ast
import os
from collections.abc import Iterable, Mapping
from pathlib import Path
from typing import Any

from .php_source import LARGEST, MOST_BYTES, PhpFileError, PhpValues
from .site_path import Place


class _Unknown(Exception):
    def __init__(self, missing: str = "") -> None:
        super().__init__(missing)
        self.missing = missing


def read_settings(path: Place, environ: Mapping[str, str]) -> PhpValues:
    """The names that a module sets, dictionaries flattened to dotted names.

    Raises:
        PhpFileError: the file is no readable Python.
        OSError: it cannot be opened.
    """
    names: dict[str, Any] = {}
    missing: dict[str, str] = {}
    _Module(path=path, environ=environ, names=names, missing=missing, depth=0).read()
    result = PhpValues(missing=missing)
    try:
        for name, value in names.items():
            _flatten(name, value, result)
    except RecursionError as error:
        raise PhpFileError("a value holds itself") from error
    return result


def _flatten(name: str, value: Any, result: PhpValues) -> None:
    if isinstance(value, dict):
        for key, item in value.items():
            _flatten(f"{name}.{key}", item, result)
    elif isinstance(value, Path):
        result.values[name] = str(value)
    elif isinstance(value, _Missing):
        result.missing[name] = value.variable
    elif isinstance(value, (str, int, float, bool)):
        result.values[name] = value


class _Missing:
    """Stands for a value from an environment variable that is not set here."""

    def __init__(self, variable: str) -> None:
        self.variable = variable


class _Module:
    def __init__(
        self,
        path: Place,
        environ: Mapping[str, str],
        names: dict[str, Any],
        missing: dict[str, str],
        depth: int,
    ) -> None:
        self._path = path
        self._environ = environ
        self._names = names
        self._missing = missing
        self._depth = depth

    def read(self) -> None:
        if self._path.stat().st_size > MOST_BYTES:
            raise PhpFileError("it is larger than any configuration is")
        try:
            self._body(ast.parse(self._path.read_text(encoding="utf-8")).body)
        except (SyntaxError, ValueError) as error:
            raise PhpFileError(f"no readable Python: {error}") from error
        except (RecursionError, MemoryError) as error:
            raise PhpFileError("nested deeper than any configuration is") from error

    def _body(self, statements: list[ast.stmt]) -> None:
        for statement in statements:
            if isinstance(statement, ast.Try):
                self._body(statement.body)
            elif isinstance(statement, ast.ImportFrom):
                self._import(statement)
            elif isinstance(statement, ast.Assign):
                value = self._known(statement.value)
                for target in statement.targets:
                    self._assign(target, value)
            elif isinstance(statement, ast.AnnAssign) and statement.value is not None:
                self._assign(statement.target, self._known(statement.value))

    def _assign(self, target: ast.expr, value: Any) -> None:
        if isinstance(target, ast.Name):
            self._names[target.id] = value
        elif isinstance(target, ast.Subscript):
            try:
                holder, key = self._value(target.value), self._value(target.slice)
            except _Unknown:
                return
            if isinstance(holder, dict) and isinstance(key, (str, int)):
                holder[key] = value if value is not holder else None

    def _import(self, statement: ast.ImportFrom) -> None:
        if statement.level != 1 or not statement.module or self._depth > 4:
            return
        path = self._path.parent.joinpath(*statement.module.split(".")).with_suffix(".py")
        if path.is_file() and any(alias.name == "*" for alias in statement.names):
            _Module(
                path=path,
                environ=self._environ,
                names=self._names,
                missing=self._missing,
                depth=self._depth + 1,
            ).read()

    def _known(self, node: ast.expr) -> Any:
        """A value; None where it cannot be known, a stand-in where a variable is missing."""
        try:
            return self._value(node)
        except _Unknown as error:
            return _Missing(error.missing) if error.missing else None
        except (TypeError, IndexError, OverflowError):  # a call or a key that Python would not take
            return None

    def _value(self, node: ast.expr) -> Any:
        if isinstance(node, ast.Constant):
            return node.value
        if isinstance(node, ast.Name):
            if node.id == "__file__":
                return str(self._path)
            if node.id in self._names:
                return self._names[node.id]
        elif isinstance(node, ast.Dict):
            return {
                self._value(key): self._known(item)
                for key, item in zip(node.keys, node.values, strict=True)
                if key is not None
            }
        elif isinstance(node, (ast.List, ast.Tuple)):
            return [self._known(item) for item in node.elts]
        elif isinstance(node, ast.JoinedStr):
            return _bounded(
                str(self._value(part.value if isinstance(part, ast.FormattedValue) else part))
                for part in node.values
            )
        elif isinstance(node, ast.BinOp) and isinstance(node.op, (ast.Add, ast.Div)):
            left, right = self._value(node.left), self._value(node.right)
            if isinstance(node.op, ast.Div) and isinstance(left, Path):
                return left / _bounded([str(right)])
            if isinstance(node.op, ast.Add) and isinstance(left, str) and isinstance(right, str):
                return _bounded([left, right])
        elif isinstance(node, ast.Subscript):
            if _dotted(node.value) in ("os.environ", "environ"):
                return self._variable(self._value(node.slice))
            holder = self._value(node.value)
            if isinstance(holder, (dict, list)):
                try:
                    return holder[self._value(node.slice)]
                except (KeyError, IndexError, TypeError) as error:
                    raise _Unknown from error
        elif isinstance(node, ast.Attribute) and node.attr == "parent":
            holder = self._value(node.value)
            if isinstance(holder, Path):
                return holder.parent
        elif isinstance(node, ast.Call):
            return self._call(node)
        raise _Unknown

    def _variable(self, name: Any, *default: Any) -> Any:
        if isinstance(name, str) and name in self._environ:
            return self._environ[name]
        if default:
            return default[0]
        raise _Unknown(str(name))

    def _call(self, node: ast.Call) -> Any:
        name = _dotted(node.func)
        if isinstance(node.func, ast.Attribute) and node.func.attr in ("resolve", "absolute"):
            return self._value(node.func.value)
        arguments = [self._value(argument) for argument in node.args]
        if name in ("os.getenv", "os.environ.get", "environ.get", "getenv"):
            return self._variable(*arguments[:2])
        if name in ("os.path.join", "join"):
            return os.path.join(*_short(arguments))  # noqa: PTH118
        if name in ("os.path.dirname", "dirname"):
            return str(Path(str(arguments[0])).parent)
        if name in ("os.path.abspath", "os.path.realpath", "str"):
            return str(arguments[0])
        if name in ("Path", "pathlib.Path"):
            return Path(*_short(arguments))
        raise _Unknown


def _bounded(parts: Iterable[str]) -> str:
    """The parts joined, where that is no longer than a value of a configuration is."""
    found, size = [], 0
    for part in parts:
        size += len(part)
        if size > LARGEST:
            raise _Unknown
        found.append(part)
    return "".join(found)


def _short(arguments: list[Any]) -> list[str]:
    texts = list(map(str, arguments))
    _bounded(texts)
    return texts


def _dotted(node: ast.expr) -> str:
    if isinstance(node, ast.Name):
        return node.id
    if isinstance(node, ast.Attribute):
        return f"{_dotted(node.value)}.{node.attr}"
    return ""
