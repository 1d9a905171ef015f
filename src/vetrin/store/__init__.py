"""The content-addressed place in ``.vetrin/``, and the builds that are kept there."""

from .builds import Build, Builds, BuildTree, NoBuild, fingerprint_of
from .commits import Commit, commit_of, commits_between
from .objects import Objects

__all__ = [
    "Build",
    "BuildTree",
    "Builds",
    "Commit",
    "NoBuild",
    "Objects",
    "commit_of",
    "commits_between",
    "fingerprint_of",
]
