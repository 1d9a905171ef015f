"""A sentence for a person with a code for programs, as plans say what to know and what to think of."""

from __future__ import annotations


class Remark(str):
    """Text with a ``code`` that stays what it is, however the text is put."""

    code: str

    def __new__(cls, code: str, text: str) -> Remark:
        found = super().__new__(cls, text)
        found.code = code
        return found

    def __getnewargs__(self) -> tuple[str, str]:  # type: ignore[override]
        return self.code, str(self)
