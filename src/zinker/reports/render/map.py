"""A picture of a survey: a map of cells, places down and subjects across, readable in black and white."""

import io
from collections.abc import Iterator

import matplotlib

matplotlib.use("agg")
from matplotlib.figure import Figure  # noqa: E402
from matplotlib.patches import Patch, Rectangle  # noqa: E402

from zinker.jobs.surveying import Cell, Survey  # noqa: E402
from zinker.reports.survey import WORDS  # noqa: E402
from zinker.reports.words import age, cut, visible  # noqa: E402

# By fill and hatch, which paper without colours shows, too; what is right is white.
_LOOKS: dict[str, dict[str, str]] = {
    "kept": {"facecolor": "#ffffff"},
    "changed": {"facecolor": "#f6dcc4", "hatch": "//"},
    "stale": {"facecolor": "#d5dae0"},
    "never": {"facecolor": "#a04a00"},
    "missing": {"facecolor": "#ffffff", "hatch": "xx"},
    "silent": {"facecolor": "#59636e"},
    "failed": {"facecolor": "#ffffff", "hatch": "++"},
}
_NAMES = {str(state): word for state, word in WORDS.items()} | {
    "changed": "changed since, or otherwise",
    "kept": "kept, as it is now",
}
_DARK = ("never", "silent")
_MOST = 400  # rows that a picture can have


def survey_map(survey: Survey, form: str) -> Iterator[bytes]:
    """Yield a map of a survey as `png` or `svg`; of more places than it has room for, what is not right first."""
    cells = [cell for cell in survey.cells if cell.subject]
    wrong = {cell.place for cell in survey.cells if not cell.is_right}
    places = sorted({cell.place for cell in survey.cells}, key=lambda place: (place not in wrong, place))[
        :_MOST
    ]
    places.sort()
    subjects = sorted({cell.subject for cell in cells})
    width, height = max(8.0, 3.2 + 1.5 * len(subjects)), 1.6 + 0.32 * len(places)
    figure = Figure(figsize=(width, height), dpi=100, layout="constrained")
    axes = figure.subplots()
    for cell in cells:
        if cell.place in places:
            at = subjects.index(cell.subject), places.index(cell.place)
            look = look_of(cell)
            axes.add_patch(Rectangle(at, 1, 1, edgecolor="#1c2126", linewidth=0.6, **_LOOKS[look]))  # type: ignore[arg-type]
            ink = "#ffffff" if look in _DARK else "#1c2126"
            box = (
                None
                if "hatch" not in _LOOKS[look]
                else {"facecolor": "#ffffff", "edgecolor": "none", "pad": 1.0}
            )
            axes.text(
                at[0] + 0.5,
                at[1] + 0.5,
                _said(cell),
                ha="center",
                va="center",
                fontsize=8,
                color=ink,
                bbox=box,
            )
    axes.set(xlim=(0, max(1, len(subjects))), ylim=(len(places), 0))
    axes.set_xticks([n + 0.5 for n in range(len(subjects))], [cut(visible(name), 22) for name in subjects])
    axes.set_yticks([n + 0.5 for n in range(len(places))], [cut(visible(name), 30) for name in places])
    axes.tick_params(length=0)
    axes.xaxis.tick_top()
    shown = dict.fromkeys(look_of(cell) for cell in cells)
    patches = [Patch(edgecolor="#1c2126", label=_NAMES[look], **_LOOKS[look]) for look in shown]  # type: ignore[arg-type]
    figure.legend(handles=patches, loc="outside lower left", ncols=4, frameon=False, fontsize=8)
    file = io.BytesIO()
    with matplotlib.rc_context({"svg.hashsalt": "zinker"}):
        figure.savefig(file, format=form, metadata={"Date": None} if form == "svg" else None)
    yield file.getvalue()


def look_of(cell: Cell) -> str:
    """Return how a cell looks: as its state, or as changed."""
    return "changed" if cell.state == "kept" and not cell.is_right else cell.state


def _said(cell: Cell) -> str:
    told = age(cell.newest.known) if cell.newest else ""
    number = cell.drift if cell.drift is not None else cell.changed
    return f"{told}, {number:,}" if number and told else told or f"{number:,}" if number else told
