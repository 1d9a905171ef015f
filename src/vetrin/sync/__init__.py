"""The job itself: plan, run, journal, undo."""

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
    USUAL_PARTS,
    Choices,
    Part,
    Plan,
    TablePlan,
    may_read,
    may_write,
)
from .planning import build_plan
from .rewriting import Healing, Rewriting
from .transfer import Report, preview, run_plan, undo, undoable

__all__ = [
    "PARTS",
    "USUAL_PARTS",
    "Choices",
    "Event",
    "FileMoved",
    "Healing",
    "JobError",
    "Journals",
    "LeftKind",
    "Listener",
    "Moved",
    "Part",
    "Phase",
    "Plan",
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
    "build_plan",
    "change",
    "may_read",
    "may_write",
    "preview",
    "run_plan",
    "silent",
    "survey",
    "undo",
    "undoable",
]
