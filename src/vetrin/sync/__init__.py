"""The job itself: plan, run, journal, undo."""

from .building import make_build, run_build
from .errors import JobError, Refused
from .events import (
    Event,
    FileMoved,
    Listener,
    Moved,
    Phase,
    Started,
    TableDone,
    TableStarted,
    silent,
)
from .inplace import Selection, Survey, Work, change, survey
from .journal import Journals, Run
from .leaving import LeftKind
from .plan import (
    PARTS,
    PUSHED_PARTS,
    USUAL_PARTS,
    Choices,
    FolderChange,
    Part,
    Plan,
    TablePlan,
    may_read,
    may_write,
    usual_parts,
)
from .planning import build_plan
from .pushing import (
    Pushed,
    build_on,
    build_push,
    holding,
    may_go_live,
    push,
    staging_of,
    still_there,
)
from .rewriting import Healing, Rewriting
from .transfer import Report, preview, run_plan, undo, undoable

__all__ = [
    "PARTS",
    "PUSHED_PARTS",
    "USUAL_PARTS",
    "Choices",
    "Event",
    "FileMoved",
    "FolderChange",
    "Healing",
    "JobError",
    "Journals",
    "LeftKind",
    "Listener",
    "Moved",
    "Part",
    "Phase",
    "Plan",
    "Pushed",
    "Refused",
    "Report",
    "Rewriting",
    "Run",
    "Selection",
    "Started",
    "Survey",
    "TableDone",
    "TablePlan",
    "TableStarted",
    "Work",
    "build_on",
    "build_plan",
    "build_push",
    "change",
    "holding",
    "make_build",
    "may_go_live",
    "may_read",
    "may_write",
    "preview",
    "push",
    "run_build",
    "run_plan",
    "silent",
    "staging_of",
    "still_there",
    "survey",
    "undo",
    "undoable",
    "usual_parts",
]
