"""The job itself: plan, run, journal, undo."""

from .errors import JobError, Refused, Stopped
from .events import (
    Checking,
    Event,
    FileMoved,
    Listener,
    Moved,
    Phase,
    Slowed,
    Started,
    TableDone,
    TableStarted,
    Waiting,
    silent,
)
from .inplace import Selection, Survey, Work, change, survey
from .journal import Journals, Run
from .keeping import Keeping, take_snapshot
from .leaving import Leaving, LeftKind
from .lock import holder_of, unlock
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
from .restoring import Wanted, build_restore, parts_wanted, snapshot_site
from .rewriting import Healing, Rewriting
from .transfer import Report, preview, run_plan, undo, undoable

__all__ = [
    "PARTS",
    "PUSHED_PARTS",
    "USUAL_PARTS",
    "Checking",
    "Choices",
    "Event",
    "FileMoved",
    "FolderChange",
    "Healing",
    "JobError",
    "Journals",
    "Keeping",
    "Leaving",
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
    "Slowed",
    "Started",
    "Stopped",
    "Survey",
    "TableDone",
    "TablePlan",
    "TableStarted",
    "Waiting",
    "Wanted",
    "Work",
    "build_plan",
    "build_restore",
    "change",
    "holder_of",
    "may_read",
    "may_write",
    "parts_wanted",
    "preview",
    "run_plan",
    "silent",
    "snapshot_site",
    "survey",
    "take_snapshot",
    "undo",
    "undoable",
    "unlock",
    "usual_parts",
]
