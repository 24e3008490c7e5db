"""What must hold of comments."""

from __future__ import annotations

from kestrav.core.document.check_values import check_time, name_of, positive
from kestrav.core.document.comments import Comment
from kestrav.core.errors import BadInput

LONGEST = 4000  # letters of a text


def check_comment(comment: Comment) -> None:
    """Raises BadInput for a comment that says nothing, or of a moment before time begins."""
    if not comment.text.strip():
        raise BadInput(f"{name_of(comment)} says nothing")
    if len(comment.text) > LONGEST:
        raise BadInput(f"{name_of(comment)} has {len(comment.text)} letters; {LONGEST} at most")
    check_time(comment.time, name_of(comment))
    if comment.view is not None:
        positive("a comment's angle of view", comment.view.angle)
        if comment.view.angle >= 180:
            raise BadInput(f"{name_of(comment)} looks with {comment.view.angle:g}°; less than 180 is possible")
        if comment.view.position == comment.view.target:
            raise BadInput(f"{name_of(comment)} looks at where it stands")
