"""Files that do not leave an environment by themselves: what is in them is its own, and often secret.

A web server hands out what lies in its root. So nothing goes up that holds settings of one environment, keys or
credentials, or that somebody's editor left beside a file whose text is not meant to be read.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Collection, Iterable, Iterator

SECRETS = "environment files, keys and credentials"
COPIES = "copies of the configuration"
LEFTOVERS = "what editors leave"

_FOLDERS = r"(?:^|/)\.(?:ssh|aws|gnupg|docker|kube|azure|config/gcloud)(?:/|$)"
_NAMES = (
    r"\.env(?:\.(?!example$|sample$|dist$|template$)[^/]*)?", r"[^/]+\.env", r"\.envrc",
    r"\.git-credentials", r"[._]netrc", r"\.pgpass", r"\.my\.cnf", r"\.mylogin\.cnf", r"\.htpasswd", r"\.npmrc",
    r"\.pypirc", r"\.yarnrc(?:\.yml)?", r"\.s3cfg", r"\.boto", r"\.dockercfg", r"\.vault-token", r"\.[a-z_]+_history",
    r"id_(?:rsa|dsa|ecdsa|ed25519)(?:_sk)?(?:\.(?!pub$)[^/]*)?", r"[^/]+\.(?:ppk|kdbx|jks|keystore|p12|pfx)",
)  # fmt: skip
# Only where no plugin or theme brings them: a public certificate may be in such a file.
_LOOSE = (r"[^/]+\.(?:pem|key)", r"auth\.json", r"credentials\.json")
_LEFT = r"(?:^|/)(?:[^/]+~|[^/]+\.(?:bak|old|orig|save|sav|swp|swo|rej)|#[^/]*#|\.#[^/]+|\.[^/]+\.sw[a-p])$"


def _named(patterns: Iterable[str]) -> str:
    return rf"(?:^|/)(?:{'|'.join(patterns)})$"


_SECRET = re.compile(f"{_FOLDERS}|{_named(_NAMES)}", re.IGNORECASE)
_SECRET_IF_LOOSE = re.compile(_named(_LOOSE), re.IGNORECASE)
_LEFTOVER = re.compile(_LEFT, re.IGNORECASE)


def withheld(
    configurations: Collection[str], loose: Callable[[str], bool], media: Callable[[str], bool]
) -> Callable[[str], str]:
    """What says why a path does not leave; nothing for one that does.

    ``configurations`` are names of configuration files, ``loose`` is true for what belongs to no plugin or theme,
    ``media`` for what was uploaded.
    """
    copies = re.compile(_named(_copies(configurations)), re.IGNORECASE) if configurations else None

    def why(path: str) -> str:
        if _SECRET.search(path) or (_SECRET_IF_LOOSE.search(path) and loose(path)):
            return SECRETS
        if copies is not None and copies.search(path):
            return COPIES
        return LEFTOVERS if _LEFTOVER.search(path) and not media(path) else ""

    return why


def _copies(names: Collection[str]) -> Iterator[str]:
    """Patterns for what people call copies of a file; not for a sample, nor for the file itself."""
    for name in names:
        stem, dot, ending = name.rpartition(".")
        stem, ending = (
            (re.escape(stem), re.escape(ending)) if dot and stem else (re.escape(name), "")
        )
        whole = rf"{stem}\.{ending}" if ending else stem
        between = r"[-_ .(](?!sample\b|example\b|dist\b)[^/]+"
        yield rf"[.#]?{whole}[^/]+"
        yield rf"\.#?{whole}"
        if ending:
            yield rf"{stem}{between}\.{ending}"
            yield rf"{stem}\d+\.{ending}"
            yield rf"(?:copy|kopie|old|backup|bak)[^/]*{stem}\.{ending}"
