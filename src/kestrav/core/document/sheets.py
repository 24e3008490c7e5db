"""The records of step sheets: a document of numbered steps for the person who does them. Lengths in mm, times in s."""

from __future__ import annotations

from typing import Annotated, Literal

from kestrav.core.document.base import Needs, Record, Ref
from kestrav.core.document.comments import SavedView
from kestrav.core.document.fields import option, quantity

MotionId = Annotated[str, Ref(("runs", "pose_tracks"), moves=False)]
"""Of a run or key poses that a step shows."""
PaperName = Literal["A4", "Letter"]
SheetLook = Literal["lines", "shaded"]


class Step(Record, frozen=True):
    """One step: the ``motions`` that it shows at once, its ``title``, what the fitter is told (``text``) and needs (``tools``), and from where
    it is seen; from where most of it shows, if nothing is said. ``apart`` is how far what moves is shown from its seat, as a share of its size."""

    motions: Annotated[tuple[MotionId, ...], Needs("one")]
    title: Annotated[str, option("Title", "Title of the step")]
    text: Annotated[str, option("Text", "Text for the fitter below the picture")] = ""
    tools: Annotated[str, option("Tools", "Tools and aids that the step needs")] = ""
    view: SavedView | None = None
    apart: Annotated[
        float,
        quantity(
            "Distance apart",
            "%",
            "Distance between parts and their seats in the picture, as a share of the parts' size",
            0,
            10,
            factor=100,
        ),
    ] = 1.2


class StepSheet(Record, frozen=True):
    """A document of steps on ``paper``, drawn in ``lines`` or ``shaded``; ``number``, ``author`` and ``revision`` stand in the title block.
    ``made_of`` tells what of the project it was last looked through with: where that has changed it is out of date."""

    id: str
    name: str
    steps: tuple[Step, ...]
    paper: Annotated[PaperName, option("Paper", "Paper size")] = "A4"
    landscape: bool = False
    look: Annotated[
        SheetLook, option("Look", "Look of the pictures: lines stay sharp at any size", lines="line drawing")
    ] = "lines"
    number: Annotated[str, option("Number", "Document number in the title block")] = ""
    author: Annotated[str, option("Author", "Author in the title block")] = ""
    revision: Annotated[str, option("Revision", "Revision in the title block")] = "A"
    made_of: str = ""
