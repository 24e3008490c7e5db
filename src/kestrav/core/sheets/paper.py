"""A page of a sheet as what is drawn on it, and how that is written: PDF by ReportLab, HTML with drawings as SVG.

Places and sizes in mm from the upper left corner, to the right and down; weights of lines and heights of letters in mm too.
"""

from __future__ import annotations

import base64
import io
from collections.abc import Sequence
from functools import cache
from html import escape
from importlib import resources
from typing import Any, Literal

import jinja2
import msgspec
import numpy as np
from numpy.typing import NDArray

from kestrav import __version__
from kestrav.core.document.sheets import PaperName

Array = NDArray[np.float64]

SIZES: dict[PaperName, tuple[float, float]] = {"A4": (210.0, 297.0), "Letter": (215.9, 279.4)}
"""Width and height: ISO 216, ANSI/ASME Y14.1 (size A)."""
_POINT = 72.0 / 25.4  # points of a mm
_FONTS = {False: "OpenSans-Regular", True: "OpenSans-Semibold"}
Colour = str


class Lines(msgspec.Struct, frozen=True, eq=False):
    """Lines (n, 2, 2), or one line through points (k, 2)."""

    points: Array
    weight: float = 0.18
    colour: Colour = "#1d2a33"
    dash: tuple[float, ...] = ()


class Text(msgspec.Struct, frozen=True):
    """A line of text whose baseline begins, or is centred, or ends at a place."""

    x: float
    y: float
    text: str
    size: float = 3.2
    bold: bool = False
    colour: Colour = "#1d2a33"
    at: Literal["start", "middle", "end"] = "start"


class Disc(msgspec.Struct, frozen=True):
    """A filled circle with a rim."""

    x: float
    y: float
    radius: float
    fill: Colour = "#fffdf8"
    colour: Colour = "#1d2a33"
    weight: float = 0.25


class Box(msgspec.Struct, frozen=True):
    """A rectangle: filled, rimmed, or both."""

    x: float
    y: float
    width: float
    height: float
    fill: Colour = ""
    colour: Colour = ""
    weight: float = 0.18


class Shape(msgspec.Struct, frozen=True, eq=False):
    """A filled polygon (k, 2)."""

    points: Array
    fill: Colour = "#1d2a33"


class Picture(msgspec.Struct, frozen=True):
    """A picture (PNG) in a rectangle."""

    x: float
    y: float
    width: float
    height: float
    png: bytes


class Clip(msgspec.Struct, frozen=True, eq=False):
    """What is drawn within a rectangle only."""

    x: float
    y: float
    width: float
    height: float
    inner: Sequence[Any]


Mark = Lines | Text | Disc | Box | Shape | Picture | Clip


class Page(msgspec.Struct):
    """A page: its size, and what is on it, each thing over those before."""

    width: float
    height: float
    marks: list[Mark] = msgspec.field(default_factory=list)


# measuring text


def _font_data(bold: bool) -> bytes:
    return (resources.files("kestrav") / "assets" / "fonts" / f"{_FONTS[bold]}.ttf").read_bytes()


@cache
def _fonts() -> None:
    """Let ReportLab know the program's own fonts."""
    from reportlab.pdfbase import pdfmetrics
    from reportlab.pdfbase.ttfonts import TTFont

    for bold, name in _FONTS.items():
        pdfmetrics.registerFont(TTFont(name, io.BytesIO(_font_data(bold))))


def width_of(text: str, size: float, *, bold: bool = False) -> float:
    """How wide a text is, of letters ``size`` mm high."""
    from reportlab.pdfbase import pdfmetrics

    _fonts()
    return float(pdfmetrics.stringWidth(text, _FONTS[bold], size * _POINT)) / _POINT


def wrapped(text: str, size: float, width: float, *, bold: bool = False, most: int = 1000) -> list[str]:
    """A text in lines no wider than a width; what goes beyond so many lines ends in an ellipsis."""
    from reportlab.lib.utils import simpleSplit

    _fonts()
    lines: list[str] = []
    for line in simpleSplit(text, _FONTS[bold], size * _POINT, width * _POINT):
        # a word that is wider than the line is cut
        while width_of(line, size, bold=bold) > width and len(line) > 1:
            fits = next((k for k in range(len(line) - 1, 1, -1) if width_of(line[:k], size, bold=bold) <= width), 1)
            lines.append(line[:fits])
            line = line[fits:]
        lines.append(line)
    if len(lines) <= most:
        return lines
    return [*lines[: most - 1], fitting(f"{lines[most - 1]} …", size, width, bold=bold)]


def fitting(text: str, size: float, width: float, *, bold: bool = False) -> str:
    """A text, or its beginning with an ellipsis, no wider than a width."""
    if width_of(text, size, bold=bold) <= width:
        return text
    while text and width_of(f"{text}…", size, bold=bold) > width:
        text = text[:-1]
    return f"{text.rstrip()}…"


# PDF


def as_pdf(pages: Sequence[Page], title: str, author: str = "") -> bytes:
    """The pages as PDF, their lines as lines and their text as text."""
    from reportlab.pdfgen.canvas import Canvas

    _fonts()
    out = io.BytesIO()
    canvas = Canvas(out, pagesize=(pages[0].width * _POINT, pages[0].height * _POINT), invariant=1)
    canvas.setTitle(title)
    canvas.setAuthor(author)
    canvas.setCreator(f"Kestrav {__version__}")
    for page in pages:
        canvas.setPageSize((page.width * _POINT, page.height * _POINT))
        for mark in page.marks:
            _to_pdf(canvas, mark, page.height)
        canvas.showPage()
    canvas.save()
    return out.getvalue()


def _to_pdf(canvas: Any, mark: Mark, height: float) -> None:
    from reportlab.lib.colors import HexColor
    from reportlab.lib.utils import ImageReader

    def x(value: float) -> float:
        return value * _POINT

    def y(value: float) -> float:
        return (height - value) * _POINT

    match mark:
        case Lines():
            canvas.setStrokeColor(HexColor(mark.colour))
            canvas.setLineWidth(mark.weight * _POINT)
            canvas.setLineCap(1)
            canvas.setLineJoin(1)
            canvas.setDash([d * _POINT for d in mark.dash])
            path = canvas.beginPath()
            for one in mark.points if mark.points.ndim == 3 else mark.points[None]:
                path.moveTo(x(one[0, 0]), y(one[0, 1]))
                for point in one[1:]:
                    path.lineTo(x(point[0]), y(point[1]))
            canvas.drawPath(path)
            canvas.setDash([])
        case Text():
            canvas.setFillColor(HexColor(mark.colour))
            canvas.setFont(_FONTS[mark.bold], mark.size * _POINT)
            draw = {"start": canvas.drawString, "middle": canvas.drawCentredString, "end": canvas.drawRightString}[
                mark.at
            ]
            draw(x(mark.x), y(mark.y), mark.text)
        case Disc():
            canvas.setFillColor(HexColor(mark.fill))
            canvas.setStrokeColor(HexColor(mark.colour))
            canvas.setLineWidth(mark.weight * _POINT)
            canvas.circle(x(mark.x), y(mark.y), mark.radius * _POINT, fill=1)
        case Box():
            if mark.fill:
                canvas.setFillColor(HexColor(mark.fill))
            if mark.colour:
                canvas.setStrokeColor(HexColor(mark.colour))
                canvas.setLineWidth(mark.weight * _POINT)
            corner = x(mark.x), y(mark.y + mark.height)
            canvas.rect(
                *corner, mark.width * _POINT, mark.height * _POINT, stroke=bool(mark.colour), fill=bool(mark.fill)
            )
        case Shape():
            canvas.setFillColor(HexColor(mark.fill))
            path = canvas.beginPath()
            path.moveTo(x(mark.points[0, 0]), y(mark.points[0, 1]))
            for point in mark.points[1:]:
                path.lineTo(x(point[0]), y(point[1]))
            path.close()
            canvas.drawPath(path, stroke=0, fill=1)
        case Picture():
            place = x(mark.x), y(mark.y + mark.height)
            canvas.drawImage(ImageReader(io.BytesIO(mark.png)), *place, mark.width * _POINT, mark.height * _POINT)
        case Clip():
            canvas.saveState()
            path = canvas.beginPath()
            path.rect(x(mark.x), y(mark.y + mark.height), mark.width * _POINT, mark.height * _POINT)
            canvas.clipPath(path, stroke=0, fill=0)
            for inner in mark.inner:
                _to_pdf(canvas, inner, height)
            canvas.restoreState()


# HTML

_PAGE = jinja2.Environment(undefined=jinja2.StrictUndefined, autoescape=True).from_string("""<!doctype html>
<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width, initial-scale=1">
<meta name="generator" content="{{ made }}"><title>{{ title }}</title><style>
@font-face{font-family:"Open Sans";font-weight:400;src:url(data:font/ttf;base64,{{ regular }})}
@font-face{font-family:"Open Sans";font-weight:600;src:url(data:font/ttf;base64,{{ bold }})}
@page{size:{{ width }}mm {{ height }}mm;margin:0}
body{margin:0;background:#d9d2c3;font-family:"Open Sans",system-ui,sans-serif}
svg{display:block;margin:6mm auto;background:#fff;width:min({{ width }}mm,100%);height:auto;box-shadow:0 1px 4px rgba(29,42,51,.3)}
@media print{body{background:none}svg{margin:0;box-shadow:none;width:{{ width }}mm;break-after:page}}
</style></head><body>
{% for page in pages %}{{ page }}
{% endfor %}</body></html>
""")


def as_html(pages: Sequence[Page], title: str) -> bytes:
    """The pages as one HTML file that needs nothing beside itself, each a drawing whose text can be searched."""
    from markupsafe import Markup

    drawn = [Markup(_svg(page, number)) for number, page in enumerate(pages, 1)]
    text = _PAGE.render(
        title=title,
        made=f"Kestrav {__version__}",
        width=f"{pages[0].width:g}",
        height=f"{pages[0].height:g}",
        regular=base64.b64encode(_font_data(False)).decode(),
        bold=base64.b64encode(_font_data(True)).decode(),
        pages=drawn,
    )
    return text.encode("utf-8")


def _svg(page: Page, number: int) -> str:
    inner = "".join(_to_svg(mark, f"{number}-{k}") for k, mark in enumerate(page.marks))
    return f'<svg viewBox="0 0 {page.width:g} {page.height:g}" role="img" aria-label="Page {number}">{inner}</svg>'


def _to_svg(mark: Mark, name: str) -> str:
    match mark:
        case Lines():
            runs = mark.points if mark.points.ndim == 3 else mark.points[None]
            drawn = "".join("M" + "L".join(f"{px:.3f} {py:.3f}" for px, py in one) for one in runs)
            dash = f' stroke-dasharray="{" ".join(f"{d:g}" for d in mark.dash)}"' if mark.dash else ""
            return (
                f'<path d="{drawn}" fill="none" stroke="{mark.colour}" stroke-width="{mark.weight:g}" stroke-linecap="round"'
                f' stroke-linejoin="round"{dash}/>'
            )
        case Text():
            weight = ' font-weight="600"' if mark.bold else ""
            anchor = "" if mark.at == "start" else f' text-anchor="{mark.at}"'
            return (
                f'<text x="{mark.x:.3f}" y="{mark.y:.3f}" font-size="{mark.size:g}" fill="{mark.colour}"{weight}{anchor}>'
                f"{escape(mark.text)}</text>"
            )
        case Disc():
            return (
                f'<circle cx="{mark.x:.3f}" cy="{mark.y:.3f}" r="{mark.radius:g}" fill="{mark.fill}" stroke="{mark.colour}"'
                f' stroke-width="{mark.weight:g}"/>'
            )
        case Box():
            rim = f' stroke="{mark.colour}" stroke-width="{mark.weight:g}"' if mark.colour else ""
            return (
                f'<rect x="{mark.x:.3f}" y="{mark.y:.3f}" width="{mark.width:.3f}" height="{mark.height:.3f}"'
                f' fill="{mark.fill or "none"}"{rim}/>'
            )
        case Shape():
            return f'<polygon points="{" ".join(f"{px:.3f},{py:.3f}" for px, py in mark.points)}" fill="{mark.fill}"/>'
        case Picture():
            data = base64.b64encode(mark.png).decode()
            return (
                f'<image x="{mark.x:.3f}" y="{mark.y:.3f}" width="{mark.width:.3f}" height="{mark.height:.3f}"'
                f' preserveAspectRatio="none" href="data:image/png;base64,{data}"/>'
            )
        case Clip():
            inner = "".join(_to_svg(one, f"{name}-{k}") for k, one in enumerate(mark.inner))
            return (
                f'<clipPath id="c{name}"><rect x="{mark.x:.3f}" y="{mark.y:.3f}" width="{mark.width:.3f}"'
                f' height="{mark.height:.3f}"/></clipPath><g clip-path="url(#c{name})">{inner}</g>'
            )
