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
from .plan import PARTS, Part, Plan, TablePlan, build_plan, may_read, may_write
from .rewriting import Healing, Rewriting
from .transfer import Report, preview, run_plan, undo, undoable

__all__ = [
    "PARTS",
    "Event",
    "FileMoved",
    "Healing",
    "JobError",
    "Journals",
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
