"""Pages that need nothing beside themselves: style, tables, pictures."""

from __future__ import annotations

import base64
from collections.abc import Iterable
from html import escape

import msgspec

STYLE = """
body{font:14px/1.5 'Open Sans',system-ui,sans-serif;color:#1d2a33;background:#f4f1ea;max-width:60rem;margin:2rem auto;padding:0 1rem}
h1{font-size:1.5rem;margin-bottom:.2rem}h2{font-size:1.1rem;margin-top:2rem;color:#1d3a40}
table{border-collapse:collapse;width:100%;background:#fffdf8}th,td{text-align:left;padding:.3rem .5rem;border-bottom:1px solid #d9d2c3}
td.n,th.n{text-align:right;font-variant-numeric:tabular-nums}figure{display:inline-block;margin:0 1rem 1rem 0;vertical-align:top}
figure img{width:28rem;max-width:100%;border:1px solid #d9d2c3}figcaption{max-width:28rem;color:#51606a}
.breached{color:#b23620;font-weight:600}.certified{color:#3b6f3a;font-weight:600}svg{background:#fffdf8;width:100%;height:auto}
code{background:#fffdf8;border:1px solid #d9d2c3;padding:.1rem .3rem}
"""


class Figure(msgspec.Struct, frozen=True):
    """A picture (PNG) of a place, and what it shows."""

    png: bytes
    caption: str


def page(title: str, sections: Iterable[str]) -> str:
    """A page of sections."""
    body = "\n".join(sections)
    return (
        f'<!doctype html>\n<html lang="en"><head><meta charset="utf-8"><title>{escape(title)}</title>'
        f"<style>{STYLE}</style></head><body>\n{body}\n</body></html>\n"
    )


def table(head: Iterable[str], rows: Iterable[Iterable[str]], numbers: tuple[int, ...] = ()) -> str:
    """A table with a heading; columns of ``numbers`` are set to the right."""

    def cells(tag: str, row: Iterable[str]) -> str:
        marked_up = []
        for k, text in enumerate(row):
            kind = "n" if k in numbers else text if text in ("breached", "certified") else ""
            marked_up.append(f"<{tag}{f' class={chr(34)}{kind}{chr(34)}' if kind else ''}>{escape(text)}</{tag}>")
        return f"<tr>{''.join(marked_up)}</tr>"

    return f"<table>{cells('th', head)}{''.join(cells('td', row) for row in rows)}</table>"


def figure_html(figure: Figure) -> str:
    """A picture with its caption, within the page."""
    data = base64.b64encode(figure.png).decode()
    caption = escape(figure.caption)
    return (
        f'<figure><img alt="{caption}" src="data:image/png;base64,{data}"><figcaption>{caption}</figcaption></figure>'
    )
