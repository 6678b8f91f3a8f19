"""The answer to a whole report, on a terminal: what to put where, once, and what waits for the next look."""

from rich.text import Text

from pewter.judge.results import Manner, Results
from pewter.judge.whole_mend import Block, Program, Put, whole_mend
from pewter.phrases import all_of, counted

from .sheet import MAX_WIDTH, MIN_WIDTH, UNICODE, Marks, Sheet

MAX_PUTS, MAX_ENTRIES = 12, 60
"""Of one block, and of what waits or has no lines, that are shown."""


def render_whole_mend(results: Results, width: int, marks: Marks = UNICODE, *, again: str = "") -> Text:
    """``again``: the command that looks again."""
    sheet = Sheet(max(MIN_WIDTH, min(width, MAX_WIDTH)), marks)
    put_whole_mend(sheet, results, again=again)
    return sheet.text


def put_whole_mend(sheet: Sheet, results: Results, *, again: str = "") -> None:
    """Program by program, block by block."""
    mend = whole_mend(results)
    if not mend.programs and not mend.later and not mend.without_lines:
        sheet.line(("Nothing that weakens, exposes or breaks: no line is needed.", ""))
        return
    for program in mend.programs:
        _program(sheet, program)
    if mend.later:
        sheet.line()
        sheet.line(("After the next look", "bold"))
        for later in mend.later[:MAX_ENTRIES]:
            sheet.labelled(2, "", f"gap {later.number} {later.rule}, {later.server}: {later.reason}", label_width=0)
    if mend.without_lines:
        sheet.line()
        sheet.line(("Not by lines for a server", "bold"))
        for entry in mend.without_lines[:MAX_ENTRIES]:
            sheet.labelled(2, "", f"gap {entry.number} {entry.rule}: {entry.mend}", label_width=0)
        if (left := len(mend.without_lines) - MAX_ENTRIES) > 0:
            sheet.labelled(2, "", f"and {left} more", "dim", label_width=0)
    sheet.line()
    if again:
        sheet.labelled(0, "", f"Then: {again}", label_width=0)
    if mend.notes:
        words = f"{counted(mend.notes, 'note')} with lines of their own: left out here, and in the report."
        sheet.labelled(0, "", words, "dim", label_width=0)


def _program(sheet: Sheet, program: Program) -> None:
    sheet.line()
    sheet.line((f"{program.server}, in this order", "bold"))
    for position, block in enumerate(program.blocks):
        _block(sheet, block, is_first=position == 0)
    if program.reload:
        sheet.labelled(2, "", "Last", label_width=0)
        sheet.labelled(4, "", "check and reload:", label_width=0)
        sheet.verbatim(9, program.reload)


def _block(sheet: Sheet, block: Block, *, is_first: bool) -> None:
    is_run = block.where == "run"
    where = ("First" if is_first else "Last") if is_run else block.where or "By hand"
    sheet.labelled(2, "", f"{where[0].upper()}{where[1:]}", label_width=0)
    for put in block.puts[:MAX_PUTS]:
        _put(sheet, put, is_run=is_run)
    if len(block.puts) > MAX_PUTS:
        sheet.labelled(4, "", f"and {len(block.puts) - MAX_PUTS} more like these: see each gap", "dim", label_width=0)


def _put(sheet: Sheet, put: Put, *, is_run: bool) -> None:
    gaps = f"gap{'s' if len(put.gaps) > 1 else ''} {all_of(list(map(str, put.gaps)))}"
    piece = put.piece
    if piece.manner is Manner.WORDS:
        sheet.labelled(4, "", f"{piece.lines} ({gaps})", label_width=0)
        return
    lead = "run" if is_run else put.how or "this block"
    sheet.labelled(4, "", f"{lead} ({gaps}){':' if piece.lines else '.'}", label_width=0)
    if piece.lines:
        sheet.verbatim(9, piece.lines)
    if piece.note:
        sheet.labelled(4, "", piece.note, "dim", label_width=0)
