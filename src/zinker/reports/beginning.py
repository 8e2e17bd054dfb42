"""What to do first on this machine."""

from collections.abc import Iterator

from zinker.jobs.beginning import Beginning
from zinker.reports.page import Block, Paragraph, Table
from zinker.reports.words import age, count


def beginning_blocks(beginning: Beginning) -> Iterator[Block]:
    """Yield what was found, and the command that keeps it."""
    if beginning.found:
        yield Paragraph(f"Found on this machine, of {beginning.known:,} that Zinker knows", "strong")
        rows = ((one.id, one.title, age(one.kept) if one.kept else "not yet") for one in beginning.found)
        yield Table(("subject", "", "kept"), tuple(rows))
    else:
        yield Paragraph(f"Nothing was found here of the {beginning.known:,} that Zinker knows", "strong")
    missing = beginning.missing
    if missing and len(missing) == len(beginning.found):
        yield Paragraph(
            f"This keeps {'it' if len(missing) == 1 else 'all of it'} on the shelf {beginning.shelf}:"
        )
        yield Paragraph("zinker export --all", indent=4)
    elif missing:
        yield Paragraph("This keeps what is missing:")
        yield Paragraph(f"zinker export {' '.join(missing)}", indent=4)
    elif beginning.found:
        yield Paragraph("What has changed since:")
        yield Paragraph("zinker compare", indent=4)
    else:
        yield Paragraph("This keeps what you name, just before you touch it:")
        yield Paragraph("zinker export --home FILE|FOLDER|KEY --label before-i-touch-it", indent=4)
    if beginning.kept:
        yield Paragraph(f"What is kept by now, of {count(beginning.kept, 'subject')}: zinker list")
    yield Paragraph("The whole job on made-up machines: zinker demo. All commands: zinker --help")
