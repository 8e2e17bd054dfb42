"""A report as a DOCX document (ISO/IEC 29500): front page, summary, contents, tables that repeat their heads.

python-docx makes the frame: pages and their numbers, styles, the front page. The body goes in row by row after
that, as text of the same schema, so that a tenant's policies need no more memory than one of them.
"""

import io
import tempfile
import zipfile
from collections.abc import Iterable, Iterator, Sequence
from typing import IO, Any
from xml.sax.saxutils import escape, quoteattr

import docx as library
import msgspec
from docx.enum.text import WD_ALIGN_PARAGRAPH, WD_BREAK
from docx.oxml import OxmlElement
from docx.oxml.ns import qn
from docx.shared import Mm, Pt, RGBColor

from zinker.disk.files import CHUNK
from zinker.reports.page import Block, Entry, Facts, Heading, Made, Page, Paragraph, Reasons, Section, Table
from zinker.reports.report import Report
from zinker.reports.words import visible

_MARK = "the body of the report goes here"
# The text of a page in twentieths of a point: A4 without its margins.
_WIDTH = 9638
_COLOURS = {
    "new": "0B57A4",
    "moved": "0B57A4",
    "changed": "A04A00",
    "left": "A04A00",
    "gone": "59636E",
    "quiet": "59636E",
}
# Longer texts stand at the end, in lines: no program sets them in a cell in a reasonable time.
_LONGEST = 4000
_LINE = 1000
_BEGUN = 200
# Rows with longer values may go over to the next page.
_LONG = 1500


def docx(report: Report, made: Made) -> Iterator[bytes]:
    """Yield a report as a document, piece by piece."""
    frame = io.BytesIO()
    _frame(report.page, made).save(frame)
    with tempfile.TemporaryFile() as file:
        _fill(frame, file, _body(report.page))
        file.seek(0)
        while piece := file.read(CHUNK):
            yield piece


def _fill(frame: IO[bytes], file: IO[bytes], body: Iterator[str]) -> None:
    """Copy a document, with a body where it has the mark."""
    with zipfile.ZipFile(frame) as old, zipfile.ZipFile(file, "w", zipfile.ZIP_DEFLATED) as new:
        for member in old.infolist():
            content = old.read(member)
            about = zipfile.ZipInfo(member.filename, member.date_time)
            about.compress_type = zipfile.ZIP_DEFLATED
            with new.open(about, "w", force_zip64=True) as target:
                if member.filename != "word/document.xml":
                    target.write(content)
                    continue
                before, _, after = content.partition(_MARK.encode())
                target.write(before[: before.rindex(b"<w:p>")])
                for piece in body:
                    target.write(piece.encode())
                target.write(after[after.index(b"</w:p>") + len(b"</w:p>") :])


def _frame(page: Page, made: Made) -> Any:
    """Return the document without its body: styles, front page, page numbers."""
    document = library.Document()
    sheet = document.sections[0]
    sheet.page_width, sheet.page_height = Mm(210), Mm(297)
    sheet.left_margin = sheet.right_margin = sheet.top_margin = sheet.bottom_margin = Mm(20)
    sheet.different_first_page_header_footer = True
    _styles(document)
    name = visible(page.title or page.kind)
    about = document.core_properties
    about.title, about.subject, about.author, about.comments = name, page.kind, visible(made.by), made.using
    document.add_paragraph(page.kind, "Subtitle").paragraph_format.space_before = Mm(70)
    document.add_paragraph(name, "Title")
    for fact, told in (
        *page.facts.pairs,
        ("made by", f"{made.by} on {made.on}"),
        ("made at", made.at),
        ("with", made.using),
    ):
        line = document.add_paragraph(style="Fact")
        line.add_run(visible(fact) + "\t").font.color.rgb = RGBColor.from_string(_COLOURS["quiet"])
        line.add_run(visible(told))
    document.paragraphs[-1].add_run().add_break(WD_BREAK.PAGE)
    document.add_paragraph(_MARK)
    foot = sheet.footer.paragraphs[0]
    foot.alignment = WD_ALIGN_PARAGRAPH.RIGHT
    foot.add_run(f"{page.kind}: {name}    " if page.title else f"{page.kind}    ").font.size = Pt(8)
    for before, code in (("page ", "PAGE"), (" of ", "NUMPAGES")):
        foot.add_run(before).font.size = Pt(8)
        field = OxmlElement("w:fldSimple")
        field.set(qn("w:instr"), code)
        run = foot.add_run("1")
        run.font.size = Pt(8)
        field.append(run._r)
        foot._p.append(field)
    return document


def _styles(document: Any) -> None:
    styles = document.styles
    styles["Normal"].font.size, styles["Normal"].font.name = Pt(10), "Arial"
    for name, size in (
        ("Title", 26),
        ("Subtitle", 12),
        ("Heading 1", 15),
        ("Heading 2", 12),
        ("Heading 3", 10),
    ):
        font = styles[name].font
        font.size, font.italic, font.color.rgb = Pt(size), False, RGBColor(0x1C, 0x21, 0x26)
    title = styles["Title"].element.pPr
    for border in title.findall(qn("w:pBdr")):
        title.remove(border)
    fact = styles.add_style("Fact", 1)
    fact.base_style = styles["Normal"]
    fact.paragraph_format.tab_stops.add_tab_stop(Mm(35))
    fact.paragraph_format.left_indent, fact.paragraph_format.first_line_indent = Mm(35), Mm(-35)
    fact.paragraph_format.space_after = Pt(2)
    cell = styles.add_style("Cell", 1)
    cell.base_style, cell.font.size = styles["Normal"], Pt(9)
    cell.paragraph_format.space_after = cell.paragraph_format.space_before = Pt(1)


def _body(page: Page) -> Iterator[str]:
    numbers = iter(range(1, 1_000_000_000))  # of bookmarks, which a document counts
    long: list[str] = []
    if page.summary:
        yield _paragraph(_run("Summary"), "Heading1")
        yield from _drawn(page.summary, numbers)
    if page.contents:
        yield _paragraph(_run("Contents"), "Heading1")
        yield from (_line_of_contents(*one) for one in page.contents)
    yield from _drawn(_shortened(page.body, long), numbers)
    if long:
        yield _paragraph(_run("Long texts"), "Heading1")
    for number, text in enumerate(long, 1):
        yield _paragraph(_run(f"Text {number}"), "Heading2")
        lines = (text[at : at + _LINE] for at in range(0, len(text), _LINE))
        yield from (_in_cell(_run(line)) for line in lines)


def _shortened(blocks: Iterable[Block], long: list[str]) -> Iterator[Block]:
    """Yield blocks in which long texts are begun only, and lead to where they stand whole."""

    def begun(text: str | None) -> str | None:
        if text is None or len(text) <= _LONGEST:
            return text
        long.append(visible(text))
        return f"{text[:_BEGUN]} … ({len(text):,} characters: text {len(long)} at the end)"

    def shorter(entry: Entry) -> Entry:
        if len(entry.name) + len(entry.before or "") + len(entry.after or "") <= _LONGEST:
            return entry
        before, after = begun(entry.before), begun(entry.after)
        return msgspec.structs.replace(entry, name=begun(entry.name) or "", before=before, after=after)

    for block in blocks:
        if isinstance(block, Section):
            entries, inside = (tuple(map(shorter, some)) for some in (block.entries, block.inside))
            block = msgspec.structs.replace(block, entries=entries, inside=inside)
        yield block


def _drawn(blocks: Iterable[Block], numbers: Iterator[int]) -> Iterator[str]:
    part = None
    for block in blocks:
        if isinstance(block, Section):
            if block.part != part:
                yield _paragraph(_run(block.part), f"Heading{block.level - 1}")
            part = block.part
            yield from _section(block, numbers)
        else:
            part = None
            yield from _block(block, numbers)


def _section(block: Section, numbers: Iterator[int]) -> Iterator[str]:
    entries = block.entries
    if block.is_whole:
        first, *own = entries
        told = ", ".join(filter(None, (first.name, first.after or first.before)))
        word = _run(f"{first.word}  ", first.word, is_bold=True) if first.word else ""
        yield _paragraph(_bookmark(block.anchor, numbers) + word + _run(told))
        yield from (_paragraph(_run(note, "quiet")) for note in (*first.notes, *block.notes))
        entries = block.inside or tuple(own)
    else:
        yield _paragraph(_bookmark(block.anchor, numbers) + _run(block.document), f"Heading{block.level}")
        yield from (_paragraph(_run(note, "quiet")) for note in block.notes)
    yield from _entries(entries)


def _block(block: Block, numbers: Iterator[int]) -> Iterator[str]:
    if isinstance(block, Heading):
        level = min(3, max(1, block.level - 1))
        yield _paragraph(_bookmark(block.anchor, numbers) + _run(block.text), f"Heading{level}")
    elif isinstance(block, Paragraph) and block.text:
        is_strong = block.look == "strong"
        yield _paragraph(_run(block.text, block.look, is_bold=is_strong), indent=block.indent * 120)
    elif isinstance(block, Facts):
        for name, value in block.pairs:
            yield _paragraph(f"{_run(name, 'quiet')}<w:r><w:tab/></w:r>{_run(value)}", "Fact")
    elif isinstance(block, Table) and block.rows:
        longest = [
            max(min(40, len(row[at])) for row in (block.head, *block.rows)) for at in range(len(block.head))
        ]
        yield from _table(block.head, _shares(longest), (map(_cell, row) for row in block.rows))
    elif isinstance(block, Reasons) and block.rows:
        yield _paragraph(_run(block.head, "left"))
        told = (
            (where, f"{why}{f' ({times:,} times)' if times > 1 else ''}") for where, why, times in block.rows
        )
        yield from _table(("what", "why"), (45, 55), (map(_cell, row) for row in told))
    elif isinstance(block, Entry):
        yield from _entries((block,))


def _shares(longest: Sequence[int]) -> list[int]:
    """Return how many hundredths of the width each column gets, by the longest text in it."""
    wanted = [length + 4 for length in longest]
    return [max(5, 100 * one // sum(wanted)) for one in wanted]


def _line_of_contents(name: str, anchor: str, level: int) -> str:
    """Return a line that leads to a bookmark, with the page that it is on."""
    code = quoteattr(f" PAGEREF {anchor} ")
    page = f'<w:fldSimple w:instr={code} w:dirty="true"><w:r><w:t></w:t></w:r></w:fldSimple>'
    stop = f'<w:tabs><w:tab w:val="right" w:leader="dot" w:pos="{_WIDTH}"/></w:tabs>'
    place = f'<w:spacing w:after="20"/><w:ind w:left="{(level - 1) * 360}"/>'
    link = f"<w:hyperlink w:anchor={quoteattr(anchor)}>{_run(name)}<w:r><w:tab/></w:r>{page}</w:hyperlink>"
    return f"<w:p><w:pPr>{stop}{place}</w:pPr>{link}</w:p>"


def _bookmark(anchor: str, numbers: Iterator[int]) -> str:
    if not anchor:
        return ""
    number = next(numbers)
    return f'<w:bookmarkStart w:id="{number}" w:name={quoteattr(anchor)}/><w:bookmarkEnd w:id="{number}"/>'


def _paragraph(runs: str, style: str = "", indent: int = 0) -> str:
    named = f'<w:pStyle w:val="{style}"/>' if style else ""
    moved = f'<w:ind w:left="{indent}"/>' if indent else ""
    return f"<w:p><w:pPr>{named}{moved}</w:pPr>{runs}</w:p>"


def _run(text: str, look: str = "", is_bold: bool = False) -> str:
    bold = "<w:b/>" if is_bold else ""
    colour = f'<w:color w:val="{_COLOURS[look]}"/>' if look in _COLOURS else ""
    told = escape(visible(text))
    return f'<w:r><w:rPr>{bold}{colour}</w:rPr><w:t xml:space="preserve">{told}</w:t></w:r>'


def _entries(entries: Sequence[Entry]) -> Iterator[str]:
    if not entries:
        return
    if any(entry.word for entry in entries):
        rows = ((_word(e), _named(e), _cell(e.before or ""), _cell(e.after or "")) for e in entries)
        yield from _table(("what", "setting", *entries[0].verbs), (13, 39, 24, 24), rows)
    else:
        yield from _table(("setting", "value"), (45, 55), ((_named(e), _linked(e)) for e in entries))


def _word(entry: Entry) -> str:
    return _in_cell(_run(entry.word, entry.word, is_bold=True))


def _named(entry: Entry) -> str:
    more = (entry.address, *entry.notes) if entry.address else entry.notes
    return _in_cell(_run(entry.name)) + "".join(_in_cell(_run(text, "quiet")) for text in more)


def _cell(text: str) -> str:
    return _in_cell(_run(text))


def _linked(entry: Entry) -> str:
    """Return the cell of a value, which leads to the documents that it names."""
    if not entry.links:
        return _cell(entry.after or "")
    told = ((_run(text), to) for text, to in entry.links)
    runs = (f"<w:hyperlink w:anchor={quoteattr(to)}>{run}</w:hyperlink>" if to else run for run, to in told)
    return _in_cell(_run(", ").join(runs))


def _in_cell(runs: str) -> str:
    return f'<w:p><w:pPr><w:pStyle w:val="Cell"/></w:pPr>{runs}</w:p>'


def _table(head: Sequence[str], shares: Sequence[int], rows: Iterable[Iterable[str]]) -> Iterator[str]:
    """Yield a table whose head stands on every page it goes over; columns get hundredths of the width."""
    widths = [_WIDTH * share // sum(shares) for share in shares]
    columns = "".join(f'<w:gridCol w:w="{width}"/>' for width in widths)
    line = 'w:val="single" w:sz="4" w:space="0" w:color="D5DAE0"'
    yield (
        f'<w:tbl><w:tblPr><w:tblW w:w="{sum(widths)}" w:type="dxa"/>'
        f"<w:tblBorders><w:bottom {line}/><w:insideH {line}/></w:tblBorders>"
        '<w:tblLayout w:type="fixed"/></w:tblPr><w:tblGrid>'
        f"{columns}</w:tblGrid>"
    )
    names = (_in_cell(_run(name, "quiet")) for name in head)
    yield _row(names, widths, "<w:tblHeader/>")
    for row in rows:
        yield _row(row, widths)
    yield '</w:tbl><w:p><w:pPr><w:spacing w:after="60"/></w:pPr></w:p>'


def _row(cells: Iterable[str], widths: Sequence[int], more: str = "") -> str:
    inside = "".join(
        f'<w:tc><w:tcPr><w:tcW w:w="{width}" w:type="dxa"/></w:tcPr>{cell}</w:tc>'
        for width, cell in zip(widths, cells, strict=True)
    )
    whole = "<w:cantSplit/>" if len(inside) < _LONG * 2 else ""
    return f"<w:tr><w:trPr>{whole}{more}</w:trPr>{inside}</w:tr>"
