"""The job itself: plan, run, journal, undo."""

from .agreement import agreed
from .changes import Changes, changes_of
from .duration import time_for
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
from .exclusions import Leaving, LeftKind
from .expected import expected_between
from .identity import as_it_was
from .in_place import Selection, Survey, Work, change, survey
from .journal import Journals, Run
from .last_copy import standing_copy
from .lock import holder_of, must_hold, only_run
from .new_copy import (
    Account,
    Tried,
    make_database,
    own_account,
    try_account,
    write_configuration,
)
from .plan import (
    PARTS,
    PUSHED_PARTS,
    USUAL_PARTS,
    BuildChange,
    Choices,
    FolderChange,
    Part,
    Plan,
    TablePlan,
    may_read,
    may_write,
    usual_parts,
)
from .planner import build_plan
from .reconnect import was_cut_off
from .recovery import finish, put_right, take_back_of_others
from .restore import Wanted, build_restore, parts_wanted, snapshot_site
from .run_context import RunContext
from .since import Since, last_since
from .snapshot import Keeping, take_snapshot
from .switching import half_switched, must_be_whole
from .transfer import Report, preview, run_plan, signature
from .undo import Undone, undo, undo_and_look, undoable

__all__ = [
    "PARTS",
    "PUSHED_PARTS",
    "USUAL_PARTS",
    "Account",
    "BuildChange",
    "Changes",
    "Checking",
    "Choices",
    "Event",
    "FileMoved",
    "FolderChange",
    "Journals",
    "Keeping",
    "Leaving",
    "LeftKind",
    "Listener",
    "Moved",
    "Part",
    "Phase",
    "Plan",
    "Report",
    "Run",
    "RunContext",
    "Selection",
    "Since",
    "Slowed",
    "Started",
    "Survey",
    "TableDone",
    "TablePlan",
    "TableStarted",
    "Tried",
    "Undone",
    "Waiting",
    "Wanted",
    "Work",
    "agreed",
    "as_it_was",
    "build_plan",
    "build_restore",
    "change",
    "changes_of",
    "expected_between",
    "finish",
    "half_switched",
    "holder_of",
    "last_since",
    "make_database",
    "may_read",
    "may_write",
    "must_be_whole",
    "must_hold",
    "only_run",
    "own_account",
    "parts_wanted",
    "preview",
    "put_right",
    "run_plan",
    "signature",
    "silent",
    "snapshot_site",
    "standing_copy",
    "survey",
    "take_back_of_others",
    "take_snapshot",
    "time_for",
    "try_account",
    "undo",
    "undo_and_look",
    "undoable",
    "usual_parts",
    "was_cut_off",
    "write_configuration",
]
