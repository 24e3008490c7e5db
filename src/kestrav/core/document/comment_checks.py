"""What must hold of comments and of step sheets."""

from __future__ import annotations

from kestrav.core.document.check_values import check_time, name_of, positive
from kestrav.core.document.comments import Comment, SavedView
from kestrav.core.document.sheets import StepSheet
from kestrav.core.errors import BadInput

LONGEST = 4000  # letters of a text
MOST_APART = 100.0  # times the size of what is shown apart


def check_comment(comment: Comment) -> None:
    """Raises BadInput for a comment that says nothing, or of a moment before time begins."""
    if not comment.text.strip():
        raise BadInput(f"{name_of(comment)} says nothing")
    if len(comment.text) > LONGEST:
        raise BadInput(f"{name_of(comment)} has {len(comment.text)} letters; {LONGEST} at most")
    check_time(comment.time, name_of(comment))
    if comment.view is not None:
        _check_view(name_of(comment), comment.view)


def check_sheet(sheet: StepSheet) -> None:
    """Raises BadInput for a step sheet without steps, or with one that says too much, or shows nothing."""
    if not sheet.steps:
        raise BadInput(f"{name_of(sheet)} has no steps")
    for number, step in enumerate(sheet.steps, 1):
        what = f"step {number} of {name_of(sheet)}"
        if max(len(step.title), len(step.text), len(step.tools)) > LONGEST:
            raise BadInput(f"{what} has more than {LONGEST} letters")
        if not step.motions:
            raise BadInput(f"{what} shows no motion")
        if not 0 <= step.apart <= MOST_APART:
            raise BadInput(f"{what} shows parts {step.apart:g} times their size apart; 0 to {MOST_APART:g} is possible")
        if step.view is not None:
            _check_view(what, step.view)


def _check_view(what: str, view: SavedView) -> None:
    positive(f"the angle of view of {what}", view.angle)
    if view.angle >= 180:
        raise BadInput(f"{what} is seen with {view.angle:g}°; less than 180 is possible")
    if view.position == view.target:
        raise BadInput(f"{what} is seen from where it looks at")
