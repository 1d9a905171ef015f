"""Links that begin at the root of the host: ``href="/railway/fares"``.

They need rewriting only where one environment lives in a folder and the other one in another or in
none. A lone ``/railway/fares`` may be anything, so they count only inside HTML attributes, CSS
``url()`` and JSON strings that hold a whole address, and only under the source's folder.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence

from .forms import ends_path

_ATTRIBUTE = (
    rb"\b(?:href|src|action|poster|cite|formaction|background|data-[a-z0-9-]+)\s*=\s*\\*[\"']"
)
_CSS = rb"\burl\(\s*\\*[\"']?"
_SET = rb"\bsrcset\s*=\s*\\*[\"'](?:[^\"'\0]{0,2000}?,\s*)?"
_JSON = rb"[:\[,]\s*\\*\""
_JSON_NAMED = rb"\"[a-z0-9_-]*(?:url|href|src|link|uri)\\*\"\s*:\s*\\*\""
_WHOLE = rb"(?=[^\"\s<>\0]*\")"


class RelativeRule:
    """Finds such links below ``old`` (empty for the root) and writes them below ``new``.

    ``not_below``: paths on disk, which a JSON string that begins with a slash may be as well.
    """

    def __init__(self, old: bytes, new: bytes, not_below: Sequence[bytes] = ()) -> None:
        self._old = [part for part in old.split(b"/") if part]
        self._new = [part for part in new.split(b"/") if part]
        self._not_below = tuple(not_below)
        path = rb"(?P<s>\\*/)" + rb"(?P=s)".join(map(re.escape, self._old))
        # What follows a lead must hold a whole address up to the closing quote.
        json = (_JSON if self._old else _JSON_NAMED) + _WHOLE
        leads = rb"|".join((_ATTRIBUTE, _CSS, json))
        self._found = re.compile(rb"(?:" + leads + rb")(?P<p>" + path + rb")", re.IGNORECASE)
        self._set = re.compile(_SET + rb"(?P<p>" + path + rb")", re.IGNORECASE)

    @property
    def needle(self) -> bytes:
        """A text that occurs wherever the rule can match, lower-cased; empty where none does."""
        return max(self._old, key=len).lower() if self._old else b""

    def matches(self, data: bytes) -> Iterator[tuple[int, int, bytes]]:
        """Start, end and new text of each link's beginning."""
        for pattern in (self._found, self._set):
            position = 0
            while match := pattern.search(data, position):
                start, end = match.span("p")
                position = match.end()
                if self._fits(data, start, end):
                    slash = match["s"]
                    yield start, end, self._written(slash)

    def _fits(self, data: bytes, start: int, end: int) -> bool:
        if self._old:
            return ends_path(data, end)
        # From the root: not another host (//), not what lies under the new folder already, and not
        # a path on disk.
        following = data[end : end + 1]
        if following in (b"/", b"\\"):
            return False
        plain = data[start : end + 400].replace(b"\\/", b"/")
        new = b"/" + b"/".join(self._new)
        if plain.startswith(new) and ends_path(plain, len(new)):
            return False
        return not any(plain.startswith(folder) for folder in self._not_below)

    def _written(self, slash: bytes) -> bytes:
        if self._old:
            return b"".join(slash + part for part in self._new)
        return slash + slash.join(self._new) + slash
