"""The delivery note on paper: HTML that prints well, and PDF."""

from __future__ import annotations

import base64
import io
from collections.abc import Sequence
from functools import cache
from pathlib import Path

from fontTools.ttLib import TTFont
from fpdf import FPDF
from fpdf.enums import TableBordersLayout
from fpdf.fonts import FontFace
from jinja2 import Environment, FileSystemLoader, select_autoescape

from .note import Compared, Note, NoteShot, span_of, tags_of

HERE = Path(__file__).parent
Colour = tuple[int, int, int]
FONT = "note"
BLACK, QUIET, YELLOW = (22, 22, 22), (74, 74, 74), (255, 227, 77)
MARGIN, PICTURE = 14.0, 88.0
"""Millimetres: round the page, and across a picture."""


def as_html(note: Note) -> str:
    """One page that needs nothing from elsewhere."""
    environment = Environment(loader=FileSystemLoader(HERE), autoescape=select_autoescape(default=True))
    environment.globals |= {"span": span_of, "tags": tags_of, "number": _number}
    return environment.get_template("note.html.j2").render(note=note)


def as_pdf(note: Note) -> bytes:
    """The same on A4 pages."""
    page = _Page(note)
    page.head(note)
    for shot in note.shots:
        page.shot(shot)
    page.foot_of(note)
    return bytes(page.output())


def _number(value: float) -> str:
    return f"{value:.3g}" if abs(value) < 1000 else f"{value:.0f}"


class _Page(FPDF):
    """A4 pages in the product's own type; what is still outside lies on yellow and is underlined."""

    def __init__(self, note: Note) -> None:
        super().__init__(format="A4")
        self._title = f"{note.job} · {note.written}"
        self.set_margins(MARGIN, MARGIN)
        self.set_auto_page_break(True, MARGIN)
        self.set_title(f"Delivery note · {note.job}")
        for style, name in (("", "regular"), ("B", "bold")):
            self.add_font(FONT, style, HERE / "fonts" / f"{name}.ttf")
        self.add_page()

    def footer(self) -> None:
        self.set_y(-10)
        self._font(7.5, QUIET)
        self.cell(0, 4, f"{self._title} · page {self.page_no()} of {{nb}}", align="R")

    def head(self, note: Note) -> None:
        self._line(f"Delivery note · {note.job}", 15, bold=True)
        timeline = f" · timeline “{note.timeline}”" if note.timeline else ""
        self._line(f"Written {note.written}{timeline} · {len(note.shots)} shots", 9, QUIET)
        self._line("Figures on yellow, underlined, are still outside their tolerance.", 9, QUIET)
        for line in note.remarks:
            self._line(line, 9)
        if len(note.shots) > 1:
            head = ["Event", "Shot", "Source", "Plan", "Files", "Outside before", "after"]
            rows = [_summary(shot) for shot in note.shots]
            marked = {(k, 6) for k, shot in enumerate(note.shots) if shot.outside}
            self._table(head, rows, (8, 40, 56, 8, 8, 14, 8), marked, numbers=(4, 5, 6))

    def shot(self, shot: NoteShot) -> None:
        if self.will_page_break(90):
            self.add_page()
        self.ln(2)
        self.set_draw_color(138)
        self.dashed_line(MARGIN, self.get_y(), self.w - MARGIN, self.get_y(), 0.5, 0.8)
        self.ln(2)
        self._line((f"{shot.place.number} · " if shot.place else "") + shot.name, 12, bold=True)
        self._line(_source(shot), 8.5, QUIET)
        self._pictures(shot)
        if shot.told:
            head = ["Finding", "Tolerance", "Source", *(file.report.format for file in shot.files)]
            marked = {(k, 3 + c) for k, found in enumerate(shot.told) for c in _still(found)}
            widths = (30, 24, 16, *(max(40 // max(len(shot.files), 1), 20) for _ in shot.files))
            numbers = tuple(range(1, 3 + len(shot.files)))
            self._table(head, [_row(found) for found in shot.told], widths, marked, numbers=numbers)
        if shot.inside:
            self._line(shot.inside, 8.5, QUIET)
        for k, words in enumerate(shot.plan):
            self._line(f"{k + 1}. {words}", 9)
        if not shot.plan:
            self._line("No plan: the frames are those of the source.", 9)
        if shot.files:
            self.ln(1)
            head = ["File", "Format", "Frames", "Tags", "MiB", "MD5"]
            rows = [
                [
                    file.name, file.report.format,
                    span_of(file.report.media) if file.report.media else str(file.report.frames),
                    tags_of(file.report.media) if file.report.media else "",
                    f"{file.report.size_bytes / (1 << 20):.1f}", file.report.checksum,
                ]
                for file in shot.files
            ]  # fmt: skip
            self._table(head, rows, (34, 26, 32, 34, 10, 34), set(), numbers=(4,), size=7.5)
            judged = shot.files[0].report.overwork
            if judged:
                self._line(f"Overwork: {judged.summary}", 9)
        for line in [*shot.remarks, *(shot.place.comments if shot.place else [])]:
            self._line(line, 9)

    def foot_of(self, note: Note) -> None:
        self.ln(3)
        told = ", ".join(f"{name} {number}" for name, number in note.program.items())
        self._line(f"Computed with {told}. The MD5 of a sequence is that of its files' sums and names.", 8, QUIET)

    def _pictures(self, shot: NoteShot) -> None:
        pictures = [data for data in (shot.before, shot.after) if data]
        if not pictures:
            return
        y, tallest = self.get_y() + 1, 0.0
        for k, data in enumerate(pictures):
            raw = io.BytesIO(base64.b64decode(data.split(",", 1)[1]))
            drawn = self.image(raw, x=MARGIN + k * (PICTURE + 4), y=y, w=PICTURE)
            tallest = max(tallest, drawn.rendered_height)
        self.set_y(y + tallest + 1)
        self._line("Source, middle frame" + (" · beside it as written" if shot.after else ""), 8, QUIET)

    def _line(
        self, text: str, size: float, colour: tuple[int, int, int] = (22, 22, 22), *, bold: bool = False
    ) -> None:
        self._font(size, colour, bold=bold)
        self.multi_cell(0, size * 0.48, _spelled(text), new_x="LMARGIN", new_y="NEXT")

    def _font(self, size: float, colour: Colour = BLACK, *, bold: bool = False) -> None:
        self.set_font(FONT, "B" if bold else "", size)
        self.set_text_color(*colour)

    def _table(
        self, head: Sequence[str], rows: Sequence[Sequence[str]], widths: Sequence[float],
        marked: set[tuple[int, int]], *, numbers: Sequence[int] = (), size: float = 8.5,
    ) -> None:  # fmt: skip
        self._font(size)
        aligned = tuple("RIGHT" if k in numbers else "LEFT" for k in range(len(head)))
        plain, still = FontFace(), FontFace(fill_color=YELLOW, emphasis="UNDERLINE")
        with self.table(
            borders_layout=TableBordersLayout.HORIZONTAL_LINES, col_widths=tuple(widths), text_align=aligned,
            line_height=size * 0.46, headings_style=FontFace(emphasis="BOLD"), padding=0.6,
        ) as table:  # fmt: skip
            table.row([_spelled(text) for text in head])
            for k, row in enumerate(rows):
                drawn = table.row()
                for c, text in enumerate(row):
                    drawn.cell(_spelled(text), style=still if (k, c) in marked else plain)
        self.ln(1)


SPELLED = {"σ": "sigma", "→": "to", "≥": "at least", "≤": "at most", "²": "2", "′": "'"}


@cache
def _letters() -> frozenset[int]:
    return frozenset(TTFont(HERE / "fonts" / "regular.ttf").getBestCmap())


def _spelled(text: str) -> str:
    """The text in letters that the type has."""
    return "".join(c if ord(c) in _letters() or c == "\n" else SPELLED.get(c, "?") for c in text)


def _summary(shot: NoteShot) -> list[str]:
    before = sum(found.was_outside for found in shot.findings)
    return [
        str(shot.place.number) if shot.place else "", shot.name, span_of(shot.source), shot.version or "none",
        str(len(shot.files)), str(before), str(len(shot.outside)),
    ]  # fmt: skip


def _source(shot: NoteShot) -> str:
    info = shot.source
    handles = f"; handles {shot.place.head} and {shot.place.tail} frames" if shot.place else ""
    fields = f", each field a frame, {info.fields} lines first" if info.fields else ""
    return (
        f"{info.width}×{info.height}, {info.rate} frames a second, {span_of(info)}, {info.codec}"
        f" {info.bit_depth}-bit {info.chroma}, read as {shot.input_space}{fields}{handles}"
    )


def _row(found: Compared) -> list[str]:
    after = ["not read" if value is None else _number(value) for value in found.after]
    return [found.kind, f"{_number(found.tolerance)} {found.unit}", _number(found.before), *after]


def _still(found: Compared) -> list[int]:
    """The files in which a finding is still outside."""
    return [k for k, still in enumerate(found.still) if still]
