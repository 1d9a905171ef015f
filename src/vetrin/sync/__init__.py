"""The job itself: plan, run, journal, undo."""

from .building import make_build, run_build
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
from .exporting import Packed, Packing, export, mapping_to
from .importing import build_import, parts_held, recognised
from .inplace import Selection, Survey, Work, change, survey
from .journal import Journals, Run
from .keeping import Keeping, take_snapshot
from .leaving import LeftKind
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
    "LeftKind",
    "Listener",
    "Moved",
    "Packed",
    "Packing",
    "Part",
    "Phase",
    "Plan",
    "Pushed",
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
    "build_import",
    "build_on",
    "build_plan",
    "build_push",
    "build_restore",
    "change",
    "export",
    "holder_of",
    "holding",
    "make_build",
    "mapping_to",
    "may_go_live",
    "may_read",
    "may_write",
    "parts_held",
    "parts_wanted",
    "preview",
    "push",
    "recognised",
    "run_build",
    "run_plan",
    "silent",
    "snapshot_site",
    "staging_of",
    "still_there",
    "survey",
    "take_snapshot",
    "undo",
    "undoable",
    "unlock",
    "usual_parts",
]
