"""A mend fitted to a configuration, on a terminal and as what ``patch`` takes."""

from collections.abc import Sequence

from rich.text import Text

from pewter.fitting.fit import Change, Fitted, Held
from pewter.phrases import all_of, counted

from .sheet import MAX_WIDTH, MIN_WIDTH, UNICODE, Marks, Sheet

MAX_SHOWN = 200
"""Changes, and lines of the diff, that are shown."""

MAX_LINES = 8


def render_fitted(fitted: Fitted, title: str, width: int, marks: Marks = UNICODE, *, file: str = "") -> Text:
    """What goes to which line; the diff itself where it is written to no ``file``."""
    sheet = Sheet(max(MIN_WIDTH, min(width, MAX_WIDTH)), marks)
    sheet.line()
    sheet.line((f"Fitted to the configuration of {title}", "bold"))
    for change in fitted.changes[:MAX_SHOWN]:
        _change(sheet, change)
    if (left := len(fitted.changes) - MAX_SHOWN) > 0:
        sheet.labelled(2, "", f"and {left} more", "dim", label_width=0)
    if not fitted.changes:
        sheet.labelled(2, "", "No line could be placed.", label_width=0)
    if fitted.held:
        sheet.line()
        sheet.line(("Not placed: by hand", "bold"))
        for held in fitted.held[:MAX_SHOWN]:
            _held(sheet, held)
    if fitted.files:
        sheet.line()
        _diff(sheet, fitted, file)
    if fitted.commands:
        sheet.line()
        sheet.labelled(2, "", "Then run:", label_width=0)
        for command in fitted.commands:
            sheet.verbatim(9, command)
    return sheet.text


def _gaps(numbers: Sequence[int]) -> str:
    return f"gap{'s' if len(numbers) > 1 else ''} {all_of(list(map(str, numbers)))}"


def _change(sheet: Sheet, change: Change) -> None:
    sheet.labelled(2, "", f"{change.path}:{change.line}  {change.place} ({_gaps(change.gaps)})", label_width=0)
    if change.by_hand:
        sheet.labelled(6, "", f"by hand: {change.by_hand}", label_width=0)
    elif change.replaced:
        own = [each for each in change.replaced if ":" not in each]
        lines = [f"line{'s' if len(own) > 1 else ''} {all_of(own)}"] if own else []
        others = [each for each in change.replaced if ":" in each]
        sheet.labelled(6, "", f"in place of {all_of([*lines, *others])}", label_width=0)
    elif change.how and not change.how.startswith(("in place of ", "take out ")):
        sheet.labelled(6, "", change.how, label_width=0)


def _held(sheet: Sheet, held: Held) -> None:
    sheet.labelled(2, "", f"{held.place or 'By hand'} ({_gaps(held.gaps)}): {held.reason}.", label_width=0)
    lines = held.lines.split("\n")
    sheet.verbatim(9, "\n".join(lines[:MAX_LINES]))
    if len(lines) > MAX_LINES:
        sheet.labelled(6, "", f"and {len(lines) - MAX_LINES} more lines: see the gap", "dim", label_width=0)


def _diff(sheet: Sheet, fitted: Fitted, file: str) -> None:
    paths = counted(len(fitted.files), "file")
    if file:
        sheet.labelled(2, "", f"{file} changes {paths}. In the folder of the configuration:", label_width=0)
        sheet.verbatim(9, f"patch -p1 --dry-run < {file} && patch -p1 < {file}")
        return
    sheet.labelled(2, "", f"What changes in {paths} (--write mend.diff keeps it, for patch -p1):", label_width=0)
    lines = fitted.diff.replace("\r\n", "\n").replace("\t", "    ").splitlines()
    sheet.verbatim(4, "\n".join(lines[:MAX_SHOWN]))
    if (left := len(lines) - MAX_SHOWN) > 0:
        sheet.labelled(2, "", f"and {left} more lines: --write mend.diff", "dim", label_width=0)


def render_diff(fitted: Fitted) -> bytes:
    """Octets as the files have them."""
    return fitted.diff.encode("utf-8", "surrogateescape")
