"""Reading constants and variables out of PHP files, without running them.

A lexer and a small evaluator for what configuration files do: ``define``, ``const``, assignments,
concatenation, environment variables with defaults, ``__DIR__``, and files that are included by a
path that can be worked out. What cannot be known without running the file (a branch that depends
on the request, a function of the site) is left out, or marked as uncertain.
"""

from __future__ import annotations

import contextlib
import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import PurePosixPath
from typing import NamedTuple

from .site_path import Place

_LEXEME = re.compile(
    r"""
    (?P<space>\s+)
  | (?P<comment>(?:\#(?!\[)|//)(?:(?!\?>)[^\r\n])*|/\*.*?\*/)
  | (?P<close>\?>)
  | (?P<heredoc><<<[ \t]*(?P<q>['"]?)(?P<tag>[A-Za-z_]\w*)(?P=q)\r?\n(?P<body>.*?)\r?\n?[ \t]*(?<=[\n \t])(?P=tag)\b)
  | (?P<single>'(?:[^'\\]|\\.)*')
  | (?P<double>"(?:[^"\\]|\\.)*")
  | (?P<variable>\$(?![0-9])[^\x00-\x2f\x3a-\x40\x5b-\x5e\x60\x7b-\x7f]+)
  | (?P<number>0[xX][0-9a-fA-F_]+|\d[\d_]*(?:\.\d+)?)
  | (?P<word>\\?[A-Za-z_][\w\\]*)
  | (?P<operator>\?\?=|===|!==|\?\?|\?:|==|!=|=>|->|::|&&|\|\||\.=|<=|>=|.)
    """,
    re.VERBOSE | re.DOTALL,
)
_HEREDOC = re.compile(r"<<<[ \t]*['\"]?[A-Za-z_]")
# No configuration has more: characters of a value, digits of a number, expressions in one another, bytes of a file.
LARGEST, _DIGITS, _DEEPEST, MOST_BYTES = 1 << 20, 40, 200, 8 << 20
_ESCAPE = re.compile(r"\\(?:([nrtvef\\$\"])|([0-7]{1,3})|x([0-9a-fA-F]{1,2})|u\{([0-9a-fA-F]+)\})")
_SIMPLE = {
    "n": "\n", "r": "\r", "t": "\t", "v": "\v", "e": "\x1b", "f": "\f", "\\": "\\", "$": "$", '"': '"',
}  # fmt: skip
_INTERPOLATED = re.compile(r"(?<!\\)(?:\\\\)*(?:\$[A-Za-z_{]|\{\$)")
_VARIABLE = re.compile(
    r"(?<!\\)(?P<even>(?:\\\\)*)(?:\{\$(?P<a>\w+)\}|\$\{(?P<b>\w+)\}|\$(?P<c>[A-Za-z_]\w*)(?!\[|->))"
)

Value = str | int | float | bool | None


class PhpFileError(ValueError):
    """The file holds no PHP that can be read; the message names the line."""


class Token(NamedTuple):
    """A token; its text stands at ``start:end`` of the file's."""

    kind: str
    text: str
    line: int
    start: int = 0
    end: int = 0


class _Unknown:
    """A value that only running the file could tell; ``missing`` names an environment variable."""

    def __init__(self, missing: str = "") -> None:
        self.missing = missing


@dataclass
class PhpValues:
    """Constants by name and variables by ``$name``.

    ``uncertain`` holds names that got different values in branches, ``missing`` those whose value
    comes from an environment variable that is not set here, with that variable's name.
    """

    values: dict[str, Value] = field(default_factory=dict)
    uncertain: set[str] = field(default_factory=set)
    certain: set[str] = field(default_factory=set, repr=False)
    missing: dict[str, str] = field(default_factory=dict)


def tokens(text: str) -> list[Token]:
    """Split a PHP file into tokens, without space and comments, from its first ``<?php`` on.

    Raises:
        PhpFileError: there is no opening tag, or a string or comment does not end.
    """
    found: list[Token] = []
    start = re.search(r"<\?(?:php\b|=)?", text, re.IGNORECASE)
    if start is None:
        raise PhpFileError("no <?php in it")
    position, line = start.end(), text.count("\n", 0, start.end()) + 1
    while position < len(text):
        match = _LEXEME.match(text, position)
        if match is None or (
            match["operator"] in ("'", '"')
            or (match["operator"] == "<" and _HEREDOC.match(text, position))
            or (text.startswith("/*", position) and not match["comment"])
        ):
            raise PhpFileError(f"line {line}: a text or comment that begins here does not end")
        kind = match.lastgroup or "operator"
        if match["heredoc"]:
            kind = "heredoc"
        if kind == "close":
            again = re.compile(r"<\?(?:php\b|=)?", re.IGNORECASE).search(text, match.end())
            found.append(
                Token(kind="operator", text=";", line=line, start=match.start(), end=match.start())
            )
            if again is None:
                break
            line += text.count("\n", position, again.end())
            position = again.end()
            continue
        if kind not in ("space", "comment"):
            found.append(
                Token(
                    kind=kind, text=match.group(), line=line, start=match.start(), end=match.end()
                )
            )
        line += match.group().count("\n")
        position = match.end()
    return found


def read_text(path: Place) -> str:
    """A file's text; one that is not UTF-8 is taken for Latin-1."""
    if path.stat().st_size > MOST_BYTES:
        raise PhpFileError("it is larger than any configuration is")
    raw = path.read_bytes()
    try:
        return raw.decode("utf-8-sig")
    except UnicodeDecodeError:
        return raw.decode("latin-1")


def read_values(
    path: Place,
    environ: Mapping[str, str],
    *,
    stop_at: Sequence[str] = (),
) -> PhpValues:
    """Constants and variables that the PHP file at ``path`` sets, and those of files it includes.

    ``stop_at``: names of files at whose inclusion reading ends (the CMS itself begins there).

    Raises:
        PhpFileError: the file is no readable PHP.
        OSError: it cannot be opened.
    """
    values = PhpValues()
    _File(path=path, environ=environ, stop_at=tuple(stop_at), result=values, depth=0).read()
    return values


class _File:
    def __init__(
        self,
        path: Place,
        environ: Mapping[str, str],
        stop_at: tuple[str, ...],
        result: PhpValues,
        depth: int,
    ) -> None:
        self._path = path
        self._environ = environ
        self._stop_at = stop_at
        self._result = result
        self._depth = depth
        self._tokens: list[Token] = []
        self._at = 0
        self._inside = 0

    def read(self) -> bool:
        """Walk over the file; False where the CMS's own code would begin."""
        self._tokens = tokens(read_text(self._path))
        braces: list[bool] = []  # for each open brace: does it depend on something unknown?
        pending = False
        while self._at < len(self._tokens):
            token = self._tokens[self._at]
            word = token.text.lower().lstrip("\\") if token.kind == "word" else ""
            if token.text == "{":
                braces.append(pending)
                pending = False
            elif token.text == "}" and braces:
                braces.pop()
            elif token.text == ";":
                pending = False
            elif word in ("if", "elseif", "switch", "while", "for", "foreach"):
                self._at += 1
                pending = not self._guards_definition()
                continue
            elif word in ("else", "function", "class", "case", "catch"):
                pending = True
            elif word == "define" and self._text(1) == "(":
                self._at += 2
                self._define(pending or any(braces))
                continue
            elif word == "const" and self._text(2) == "=":
                name = self._text(1)
                self._at += 3
                self._set(name, self._expression(), pending or any(braces), constant=True)
                continue
            elif token.kind == "variable" and self._text(1) in ("=", "??=") and not self._nested():
                self._at += 2
                self._set(token.text, self._expression(), pending or any(braces), constant=False)
                continue
            elif word in ("require", "require_once", "include", "include_once"):
                self._at += 1
                begin = self._at
                target = self._expression()
                if self._begins_cms(begin) or not self._include(target):
                    return False
                continue
            self._at += 1
        return True

    def _text(self, ahead: int) -> str:
        at = self._at + ahead
        return self._tokens[at].text if at < len(self._tokens) else ""

    def _nested(self) -> bool:
        return self._at > 0 and self._tokens[self._at - 1].text in ("->", "::")

    def _guards_definition(self) -> bool:
        """Skip the condition of an if; True for ``!defined(…)`` and the like, which always holds."""
        depth, words = 0, []
        while self._at < len(self._tokens):
            text = self._tokens[self._at].text
            depth += (text == "(") - (text == ")")
            words.append(text.lower())
            self._at += 1
            if depth == 0:
                break
        names = [word for word in words if word not in "()!"]
        return (
            bool(names)
            and words.count("!") == 1
            and names[0] in ("defined", "isset", "file_exists")
        )

    def _define(self, conditional: bool) -> None:
        name = self._expression()
        if self._text(0) != ",":
            return
        self._at += 1
        value = self._expression()
        if isinstance(name, str):
            self._set(name, value, conditional, constant=True)

    def _set(
        self, name: str, value: Value | _Unknown, conditional: bool, *, constant: bool
    ) -> None:
        result = self._result
        if isinstance(value, _Unknown):
            if name not in result.values and value.missing:
                result.missing[name] = value.missing
            return
        if name in result.values:
            if conditional:
                if result.values[name] != value and name not in result.certain:
                    result.uncertain.add(name)
                return
            if constant and name in result.certain:
                return  # the first definition of a constant is the one that holds
        result.values[name] = value
        result.missing.pop(name, None)
        if not conditional:
            result.certain.add(name)
            result.uncertain.discard(name)

    def _begins_cms(self, begin: int) -> bool:
        """True if the path of an inclusion ends with a file where the CMS's own code begins."""
        texts = [
            t.text.strip("'\"") for t in self._tokens[begin : self._at] if t.kind != "operator"
        ]
        return bool(texts) and texts[-1].rsplit("/", 1)[-1] in self._stop_at

    def _include(self, target: Value | _Unknown) -> bool:
        if not isinstance(target, str):
            return True
        path = self._path.parent / target  # an absolute one stays what it is
        if self._depth < 5 and path.is_file():
            return _File(
                path=path,
                environ=self._environ,
                stop_at=self._stop_at,
                result=self._result,
                depth=self._depth + 1,
            ).read()
        return True

    # An expression ends before a comma, a closing bracket or a semicolon of its own level.

    def _expression(self) -> Value | _Unknown:
        with self._deeper():
            return self._alternatives()

    @contextlib.contextmanager
    def _deeper(self) -> Iterator[None]:
        self._inside += 1
        if self._inside > _DEEPEST:
            line = self._tokens[min(self._at, len(self._tokens) - 1)].line
            raise PhpFileError(f"line {line}: nested deeper than any configuration is")
        try:
            yield
        finally:
            self._inside -= 1

    def _alternatives(self) -> Value | _Unknown:
        left = self._concatenation()
        while self._text(0) in ("??", "?:", "?", "||", "&&", "==", "===", "!=", "!=="):
            operator = self._text(0)
            self._at += 1
            if operator == "??":
                right = self._expression()
                left = (
                    right if left is None or (isinstance(left, _Unknown) and left.missing) else left
                )
            elif operator == "?:":
                right = self._expression()
                empty = not left or left == "0" or (isinstance(left, _Unknown) and left.missing)
                left = right if empty else left
            elif operator == "?":
                if self._text(0) == ":":
                    self._at += 1
                    right = self._expression()
                    empty = not left or (isinstance(left, _Unknown) and bool(left.missing))
                    left = right if empty else left
                    continue
                self._expression()
                if self._text(0) == ":":
                    self._at += 1
                    self._expression()
                left = _Unknown()
            else:
                self._concatenation()
                left = _Unknown()
        return left

    def _concatenation(self) -> Value | _Unknown:
        left = self._term()
        while self._text(0) == ".":
            self._at += 1
            right = self._term()
            if isinstance(left, _Unknown) or isinstance(right, _Unknown):
                left = left if isinstance(left, _Unknown) else right
            else:
                left = f"{_string(left)}{_string(right)}"
                if len(left) > LARGEST:
                    left = _Unknown()
        return left

    def _term(self) -> Value | _Unknown:
        with self._deeper():
            return self._one_term()

    def _one_term(self) -> Value | _Unknown:
        if self._at >= len(self._tokens):
            return _Unknown()
        token = self._tokens[self._at]
        self._at += 1
        if token.text == "(":
            value = self._expression()
            if self._text(0) in ("string", "int", "bool"):
                pass
            if self._text(0) == ")":
                self._at += 1
            # A cast such as (string) reads as a bracketed unknown word before its operand.
            if isinstance(value, _Unknown) and self._tokens[self._at - 2].text.lower() in (
                "string", "int", "bool", "integer", "boolean",
            ):  # fmt: skip
                return self._term()
            return value
        if token.text in ("!", "-", "@"):
            value = self._term()
            if token.text == "-" and isinstance(value, (int, float)):
                return -value
            return value if token.text == "@" else _Unknown()
        if token.kind == "single":
            return re.sub(r"\\([\\'])", r"\1", token.text[1:-1])
        if token.kind in ("double", "heredoc"):
            return self._quoted(token)
        if token.kind == "number":
            digits = token.text.replace("_", "")
            if len(digits) > _DIGITS:
                return _Unknown()
            return (
                float(digits)
                if "." in digits and "x" not in digits.lower()
                else int(digits, 0 if "x" in digits.lower() else 10)
            )
        if token.kind == "variable":
            return self._variable(token.text)
        if token.kind == "word":
            return self._word(token.text.lstrip("\\"))
        self._at -= token.text in (",", ")", ";", "]", "}")
        return _Unknown()

    def _quoted(self, token: Token) -> Value | _Unknown:
        if token.kind == "heredoc":
            match = _LEXEME.match(token.text)
            assert match is not None
            body = match["body"]
            if match["q"] == "'":
                return body
        else:
            body = token.text[1:-1]
        if _INTERPOLATED.search(body):
            unknown = False

            def put(found: re.Match[str]) -> str:
                nonlocal unknown
                name = "$" + (found["a"] or found["b"] or found["c"])
                value = self._result.values.get(name)
                unknown = unknown or value is None
                return found["even"] + _string(value).replace("\\", "\\\\").replace("$", "\\$")

            if (
                sum(len(_string(self._result.values.get("$" + name))) for name in _names_in(body))
                > LARGEST
            ):
                return _Unknown()
            body = _VARIABLE.sub(put, body)
            if unknown or _INTERPOLATED.search(body):
                return _Unknown()
        return _ESCAPE.sub(_unescaped, body)

    def _variable(self, name: str) -> Value | _Unknown:
        if self._text(0) == "[":
            self._at += 1
            key = self._expression()
            if self._text(0) == "]":
                self._at += 1
            if name in ("$_ENV", "$_SERVER") and isinstance(key, str):
                return self._from_environment(key)
            return _Unknown()
        value = self._result.values.get(name)
        return value if name in self._result.values else _Unknown()

    def _from_environment(self, name: str) -> Value | _Unknown:
        return self._environ[name] if name in self._environ else _Unknown(name)

    def _word(self, word: str) -> Value | _Unknown:
        lower = word.lower()
        if lower in ("true", "false"):
            return lower == "true"
        if lower == "null":
            return None
        if word == "__DIR__":
            return str(self._path.parent)
        if word == "__FILE__":
            return str(self._path)
        if self._text(0) != "(":
            return self._result.values.get(word) if word in self._result.values else _Unknown()
        self._at += 1
        arguments: list[Value | _Unknown] = []
        while self._at < len(self._tokens) and self._text(0) != ")":
            arguments.append(self._expression())
            if self._text(0) == "," or self._text(0) != ")":
                self._at += 1
        self._at += 1
        first = arguments[0] if arguments else _Unknown()
        if lower == "dirname" and isinstance(first, str):
            levels = arguments[1] if len(arguments) > 1 else 1
            path = PurePosixPath(first)
            for _ in range(min(levels, len(path.parts)) if isinstance(levels, int) else 1):
                path = path.parent
            return str(path)
        if lower in ("trim", "strval", "rtrim") and isinstance(first, str):
            return first.strip() if lower != "strval" else first
        # A function whose name speaks of the environment reads a variable, with a default behind.
        if "env" in lower and isinstance(first, str):
            value = self._from_environment(first)
            if isinstance(value, _Unknown) and len(arguments) > 1:
                return arguments[1]
            return value
        return _Unknown()


def _string(value: Value) -> str:
    if value is None or value is False:
        return ""
    return "1" if value is True else str(value)


def _unescaped(match: re.Match[str]) -> str:
    simple, octal, hexadecimal, point = match.groups()
    if simple:
        return _SIMPLE[simple]
    if octal:
        return chr(int(octal, 8) & 0xFF)
    code = int(hexadecimal or point, 16)
    return chr(code) if code < 0x110000 and not 0xD800 <= code < 0xE000 else "\ufffd"


def _names_in(body: str) -> list[str]:
    """The variables that a text speaks of, as often as it does."""
    return [found["a"] or found["b"] or found["c"] for found in _VARIABLE.finditer(body)]
