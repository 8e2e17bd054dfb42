"""A picture of how much changed when and where: a row of bars for each place, readable in black and white."""

import datetime
import io
from collections.abc import Iterator, Sequence

import matplotlib

matplotlib.use("agg")
from matplotlib.axes import Axes  # noqa: E402
from matplotlib.dates import AutoDateLocator, ConciseDateFormatter, date2num  # noqa: E402
from matplotlib.figure import Figure  # noqa: E402
from matplotlib.ticker import MaxNLocator  # noqa: E402

from zinker.jobs.retracing import History, Step  # noqa: E402
from zinker.model.names import place_told  # noqa: E402
from zinker.reports.comparison import WORDS  # noqa: E402
from zinker.reports.words import count, cut, visible, when  # noqa: E402

# The words by fill and hatch, which paper without colours shows, too.
_LOOKS = {
    "changed": {"facecolor": "#a04a00", "edgecolor": "#1c2126"},
    "new": {"facecolor": "#d6e6f5", "edgecolor": "#1c2126", "hatch": "////"},
    "gone": {"facecolor": "#ffffff", "edgecolor": "#1c2126", "hatch": "...."},
}
_MOST_LABELS = 12


def picture(history: History, form: str) -> Iterator[bytes]:
    """Yield a picture of a history as `png` or `svg`."""
    by_place: dict[str, list[Step]] = {}
    for version in history.versions:
        by_place.setdefault(place_told(version.place, version.machine), [])
    for step in history.steps:
        by_place[place_told(step.after.place, step.after.machine)].append(step)
    figure = Figure(figsize=(12.8, 1.6 + 2.2 * len(by_place)), dpi=100, layout="constrained")
    rows = figure.subplots(len(by_place), 1, sharex=True, squeeze=False)[:, 0]
    for axes, (place, steps) in zip(rows, by_place.items(), strict=True):
        _draw(axes, history, place, steps)
    rows[0].legend(loc="upper left", bbox_to_anchor=(1.0, 1.0), frameon=False)
    first, last = history.versions[0], history.versions[-1]
    versions = count(len(history.versions), "version")
    told = f"{versions}, {when(first.captured)} to {when(last.captured)}"
    figure.suptitle(f"{visible(history.title)}: settings changed from one version to the next\n{told}")
    file = io.BytesIO()
    # The same history gives the same picture.
    with matplotlib.rc_context({"svg.hashsalt": "zinker"}):
        figure.savefig(file, format=form, metadata={"Date": None} if form == "svg" else None)
    yield file.getvalue()


def _draw(axes: Axes, history: History, place: str, steps: Sequence[Step]) -> None:
    every = [_day(one.captured) for one in history.versions if place_told(one.place, one.machine) == place]
    days = [date2num(day) for day in every]
    width = max((max(days) - min(days)) / 90, 1 / 1440) if days else 1.0
    floor = [0] * len(steps)
    at = [date2num(_day(step.after.captured)) for step in steps]
    for word in WORDS:
        heights = [step.counts.get(word, 0) for step in steps]
        axes.bar(at, heights, width, bottom=floor, label=word, linewidth=0.6, **_LOOKS[word])  # type: ignore[arg-type]
        floor = [one + other for one, other in zip(floor, heights, strict=True)]
    # A stroke for every version, so that one in which nothing changed is seen, too.
    axes.plot(days, [0] * len(days), "|", color="#1c2126", markersize=9, clip_on=False, label="kept")
    labelled = [
        (x, y, step.after.label) for x, y, step in zip(at, floor, steps, strict=True) if step.after.label
    ]
    for x, y, label in labelled[-_MOST_LABELS:]:
        text = cut(visible(label), 24)
        axes.annotate(text, (x, y), (0, 3), textcoords="offset points", ha="center", fontsize=8)
    axes.set_title(visible(place), loc="left", fontsize=10)
    axes.set_ylabel("settings")
    axes.yaxis.set_major_locator(MaxNLocator(integer=True, nbins=5))
    axes.set_ylim(0, max(floor, default=1) * 1.2 or 1)
    locator = AutoDateLocator()
    axes.xaxis.set_major_locator(locator)
    axes.xaxis.set_major_formatter(ConciseDateFormatter(locator))
    axes.xaxis_date()
    for side in ("top", "right"):
        axes.spines[side].set_visible(False)


def _day(captured: str) -> datetime.datetime:
    return datetime.datetime.fromisoformat(captured).astimezone().replace(tzinfo=None)
