"""Charts, drawn by Matplotlib, which is imported only where one is drawn.

The same figures give the same octets: no date, no random id, and text as text in SVG.
"""

import datetime
import io
import re
import warnings
from collections.abc import Callable, Sequence
from typing import Any

from pewter.errors import UsageError
from pewter.escape import escaped
from pewter.judge.endings import Ending, EndingKind

MAX_ROWS = 60
"""Places of a timeline, the soonest; the list beside it holds all."""

PAST_DAYS, AHEAD_DAYS = 60.0, 400.0
"""What is drawn at most: a root that ends in ten years would press all else together."""

SUFFIXES = (".png", ".svg")
_FAR = 0.75
"""Share of the width beyond which a date stands before its mark."""

_SALT = "pewter"
LEVEL_COLOURS = {"breaks": "#b01218", "exposes": "#8a1f8a", "weakens": "#9a6a00", "note": "#0b5c74", "holds": "#14652f"}
_DIM = "#5a6875"


def timeline(endings: Sequence[Ending], at: datetime.datetime, suffix: str) -> bytes:
    """What ends when: a bar to the end of each certificate with its renewal point, a mark for all else.

    Raises UsageError where Matplotlib is not installed.
    """
    return picture(lambda figure: _draw_timeline(figure, endings, at), suffix, _height(endings), "What ends when")


def picture(draw: Callable[[Any], None], suffix: str, height: float, title: str, width: float = 9.0) -> bytes:
    """A figure of so many inches, as PNG or as SVG that can stand inside HTML."""
    matplotlib = _matplotlib()
    settings = {
        "svg.hashsalt": _SALT + title, "svg.fonttype": "none", "font.size": 9.0, "font.family": "sans-serif",
        "text.parse_math": False,
        "axes.spines.top": False, "axes.spines.right": False, "axes.grid.axis": "x",
    }  # fmt: skip
    with matplotlib.rc_context(settings), warnings.catch_warnings():
        warnings.simplefilter("ignore")  # of signs that the font has not
        figure = matplotlib.figure.Figure(figsize=(width, height), layout="constrained")
        draw(figure)
        out = io.BytesIO()
        if suffix == ".png":
            figure.savefig(out, format="png", dpi=110, metadata={"Software": None})
            return out.getvalue()
        figure.savefig(out, format="svg", transparent=True, metadata={"Date": None, "Creator": None})
    return _inline(out.getvalue().decode("utf-8"), title).encode("utf-8")


def _matplotlib() -> Any:
    try:
        import matplotlib  # noqa: PLC0415
        import matplotlib.figure  # noqa: PLC0415
    except ImportError:
        words = "Charts need Matplotlib, which is not installed here: pip install 'pewter[charts]'"
        raise UsageError(words) from None
    return matplotlib


def _inline(svg: str, title: str) -> str:
    """Without the head of an XML file, with ids of its own, in the colour of the text around it."""
    svg = svg[svg.index("<svg") :].rstrip() + "\n"
    svg = re.sub(r"<metadata>.*?</metadata>\s*", "", svg, flags=re.DOTALL)
    slug = re.sub(r"[^a-z0-9]+", "-", title.lower()).strip("-")
    svg = re.sub(r'\bid="([^"]*)"', rf'id="{slug}-\1"', svg)
    svg = re.sub(r'\bhref="#([^"]*)"', rf'href="#{slug}-\1"', svg)
    svg = re.sub(r"url\(#([^)]*)\)", rf"url(#{slug}-\1)", svg)
    svg = svg.replace("#000000", "currentColor").replace(_DIM, "currentColor")
    # Text without a fill of its own would stay black on a dark page.
    head, _, rest = svg.partition(">")
    head = f'{head} role="img" aria-label="{title}" fill="currentColor"'
    return f"{head}><title>{title}</title>{rest}"


def _height(endings: Sequence[Ending]) -> float:
    return 1.2 + 0.26 * min(len(_rows(endings)), MAX_ROWS)


def _rows(endings: Sequence[Ending]) -> list[tuple[str, list[Ending]]]:
    """By place, the soonest end first; renewals stand in the row of their certificate."""
    rows: dict[tuple[str, bool], list[Ending]] = {}
    for ending in endings:
        of_leaf = ending.kind in {EndingKind.CERTIFICATE, EndingKind.RENEWAL}
        rows.setdefault((ending.where if of_leaf else f"{ending.where}: {ending.kind.value}", of_leaf), []).append(
            ending
        )
    ordered = sorted(rows.items(), key=lambda row: max(each.at for each in row[1]))
    return [(where, found) for (where, _), found in ordered]


def _draw_timeline(figure: Any, endings: Sequence[Ending], at: datetime.datetime) -> None:
    axes = figure.add_subplot()
    rows = _rows(endings)[:MAX_ROWS]
    days = [_days(each.at - at) for _, found in rows for each in found]
    left, right = max(min([0.0, *days]), -PAST_DAYS), min(max([1.0, *days]), AHEAD_DAYS)
    for position, (_, found) in enumerate(rows):
        ends = next((each.at for each in found if each.kind is not EndingKind.RENEWAL), None)
        renewal = next((each.at for each in found if each.kind is EndingKind.RENEWAL), None)
        colour = LEVEL_COLOURS[_level(ends, renewal, at)]
        if ends is not None:
            end = min(max(_days(ends - at), left), right)
            if any(each.kind is EndingKind.CERTIFICATE for each in found):
                axes.barh(position, end, left=0, height=0.5, color=colour, alpha=0.85)
            is_inside = left <= _days(ends - at) <= right
            axes.plot(end, position, marker="s" if is_inside else ">" if end > 0 else "<", markersize=6, color=colour)
            # Near the right edge the date stands before the mark, within the bar where there is one.
            is_far, has_bar = end > left + _FAR * (right - left), end > 0 and renewal is not None
            label = {"textcoords": "offset points", "fontsize": 8, "va": "center"}
            label |= {"xytext": (-8, 0), "ha": "right"} if is_far else {"xytext": (8, 0), "ha": "left"}
            words, colour_of_words = f"{ends:%Y-%m-%d}", "white" if is_far and has_bar else _DIM
            axes.annotate(words, (max(end, 0), position), color=colour_of_words, **label)
        if renewal is not None and left <= _days(renewal - at) <= right:
            axes.plot(_days(renewal - at), position, marker="D", markersize=6, color="white", markeredgecolor=colour)
    axes.set_yticks(range(len(rows)), [escaped(where)[:60] for where, _ in rows])
    axes.invert_yaxis()
    axes.axvline(0, color=_DIM, linewidth=1)
    axes.set_xlim(left - 0.02 * (right - left), right + 0.04 * (right - left))
    axes.set_xlabel(f"days from {at:%Y-%m-%d}")
    for marker, words, face in (("s", "end", _DIM), ("D", "renewal due", "white"), (">", "ends further away", _DIM)):
        axes.plot([], [], marker, color=face, markeredgecolor=_DIM, markersize=6, label=words)
    axes.legend(loc="upper right", fontsize=8, framealpha=0.9)
    axes.grid(axis="x", alpha=0.25)
    axes.set_axisbelow(True)
    left_out = len(_rows(endings)) - len(rows)
    if left_out:
        axes.set_title(f"the {len(rows)} that end first, of {len(rows) + left_out}", fontsize=9, loc="left")


def _level(ends: datetime.datetime | None, renewal: datetime.datetime | None, at: datetime.datetime) -> str:
    if ends is not None and ends <= at:
        return "breaks"
    if renewal is not None and renewal <= at:
        return "weakens"
    return "holds" if renewal is not None else "note"


def _days(span: datetime.timedelta) -> float:
    return span.total_seconds() / 86400


def bars(counts: Sequence[tuple[str, int]], title: str, suffix: str, colours: Sequence[str] = ()) -> bytes:
    """A bar for each count, with its number; whoever shows it says of how many."""

    def draw(figure: Any) -> None:
        axes = figure.add_subplot()
        positions = range(len(counts))
        axes.barh(positions, [count for _, count in counts], color=list(colours) or LEVEL_COLOURS["note"], height=0.65)
        axes.set_yticks(positions, [escaped(words)[:50] for words, _ in counts])
        axes.invert_yaxis()
        most = max([1, *(count for _, count in counts)])
        for position, (_, count) in enumerate(counts):
            axes.annotate(f"{count:,}", (count, position), xytext=(4, -3), textcoords="offset points", fontsize=8)
        axes.set_xlim(0, most * 1.12)
        axes.grid(axis="x", alpha=0.25)
        axes.set_axisbelow(True)

    return picture(draw, suffix, 0.6 + 0.26 * max(len(counts), 2), title, 6.4)


def colours_of(levels: Sequence[str]) -> list[str]:
    """Of levels, in their order; whatever is none is green."""
    return [LEVEL_COLOURS.get(level, LEVEL_COLOURS["holds"]) for level in levels]
