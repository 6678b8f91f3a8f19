"""A mend fitted to a configuration, on a terminal and as what ``patch`` takes."""

import shlex
from collections.abc import Sequence

from rich.text import Text

from pewter.fitting.fit import Change, Fitted, Held
from pewter.judge.whole_mend import Later
from pewter.phrases import all_of, counted

from .sheet import MAX_WIDTH, MIN_WIDTH, UNICODE, Marks, Sheet

MAX_SHOWN = 200
"""Changes, and lines of the diff, that are shown."""

MAX_LINES = 8
_STYLES = {"-": "red", "+": "green"}


def render_fitted(
    fitted: Fitted,
    title: str,
    width: int,
    marks: Marks = UNICODE,
    *,
    folder: str = ".",
    file: str = "",
    later: Sequence[Later] = (),
    others: Sequence[str] = (),
) -> Text:
    """What goes to which line of the files in a folder; the diff itself where it is written to no ``file``.

    ``later``: what waits for the next look.  ``others``: kinds of servers whose lines are not among these.
    """
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
    if later:
        sheet.line()
        sheet.line(("After the next look", "bold"))
        for each in later[:MAX_SHOWN]:
            sheet.labelled(2, "", f"gap {each.number} {each.rule}: {each.reason}", label_width=0)
    if fitted.files:
        sheet.line()
        _diff(sheet, fitted, folder, file)
    if fitted.commands:
        sheet.line()
        sheet.labelled(2, "", "Then run:", label_width=0)
        for command in fitted.commands:
            sheet.verbatim(9, command)
    if others:
        sheet.line()
        sheet.labelled(2, "", f"Lines for {all_of(others)} are not among these.", "dim", label_width=0)
    return sheet.text


def _gaps(numbers: Sequence[int], rule: str) -> str:
    if len(numbers) == 1:
        return f"gap {numbers[0]} {rule}"
    return f"gaps {all_of(list(map(str, numbers)))}"


def _change(sheet: Sheet, change: Change) -> None:
    sheet.labelled(2, "", f"{change.path}:{change.line}  {_gaps(change.gaps, change.rule)}", label_width=0)
    how = ""
    if change.replaced:
        own = [each for each in change.replaced if ":" not in each]
        lines = [f"line{'s' if len(own) > 1 else ''} {all_of(own)}"] if own else []
        others = [each for each in change.replaced if ":" in each]
        how = f", in place of {all_of([*lines, *others])}"
    elif change.how and not change.how.startswith(("in place of ", "take out ")):
        how = f", {change.how}"
    by_hand = f"; by hand: {change.by_hand}" if change.by_hand else ""
    sheet.labelled(6, "", f"{change.place}{how}{by_hand}", label_width=0)


def _held(sheet: Sheet, held: Held) -> None:
    sheet.labelled(2, "", f"{held.place or 'By hand'} ({_gaps(held.gaps, held.rule)}): {held.reason}.", label_width=0)
    lines = held.lines.split("\n")
    sheet.verbatim(9, "\n".join(lines[:MAX_LINES]))
    if len(lines) > MAX_LINES:
        sheet.labelled(6, "", f"and {len(lines) - MAX_LINES} more lines: see the gap", "dim", label_width=0)


def _diff(sheet: Sheet, fitted: Fitted, folder: str, file: str) -> None:
    paths = counted(len(fitted.files), "file")
    if file:
        sheet.labelled(2, "", f"{file} changes {paths}:", label_width=0)
        command = f"patch {f'-d {shlex.quote(folder)} ' if folder != '.' else ''}-p1"
        sheet.verbatim(9, f"{command} --dry-run < {shlex.quote(file)} && {command} < {shlex.quote(file)}")
        return
    sheet.labelled(2, "", f"What changes in {paths} (--write mend.diff keeps it, for patch -p1):", label_width=0)
    lines = fitted.diff.replace("\r\n", "\n").replace("\t", "    ").splitlines()
    for line in lines[:MAX_SHOWN]:
        sheet.line("     ", (line, _STYLES.get(line[:1], "dim")))
    if (left := len(lines) - MAX_SHOWN) > 0:
        sheet.labelled(2, "", f"and {left} more lines: --write mend.diff", "dim", label_width=0)


def render_diff(fitted: Fitted) -> bytes:
    """Octets as the files have them."""
    return fitted.diff.encode("utf-8", "surrogateescape")
