"""URLs in CSS: ``url()``, ``@import``, ``image-set()`` and fonts (CSS Syntax, CSS Fonts, CSS Images)."""

from collections.abc import Iterator, Sequence

import tinycss2
from tinycss2.ast import AtKeywordToken, FunctionBlock, LiteralToken, Node, StringToken, URLToken

from pewter.evidence import Use

MAX_STYLE = 1 << 18
"""Characters of one style sheet that are read."""

_IN_STYLE = "url() in a style"


def may_hold_plain_urls(text: str) -> bool:
    """Whether a text can spell ``http:`` or ``ws:`` at all: most styles cannot, and need no reading."""
    lowered = text.lower().replace("\t", "")
    return "http:" in lowered or "ws:" in lowered or "\\" in lowered


def may_import(text: str) -> bool:
    """Whether a style can bring in another sheet."""
    lowered = text.lower()
    return "@import" in lowered or ("@" in lowered and "\\" in lowered)


def urls_in_style(text: str) -> Iterator[tuple[str, Use, str]]:
    """Each URL as written, what it is for, and where it stands; no recursion, however deep the blocks are."""
    nodes = tinycss2.parse_component_value_list(text[:MAX_STYLE], skip_comments=True)
    stack: list[tuple[Sequence[Node], Use, str]] = [(nodes, Use.IMAGE, _IN_STYLE)]
    while stack:
        level, use, place = stack.pop()
        keyword = ""  # of the at-rule whose prelude or block comes now
        deeper: list[tuple[Sequence[Node], Use, str]] = []
        for node in level:
            here = (Use.STYLE, "@import") if keyword == "import" else (use, place)
            match node:
                case AtKeywordToken():
                    keyword = node.lower_value
                case LiteralToken(value=";"):
                    keyword = ""
                case StringToken() if keyword == "import":
                    yield node.value, *here
                    keyword = "imported"
                case URLToken() if keyword != "namespace":
                    yield node.value, *here
                    keyword = "imported" if keyword == "import" else keyword
                case FunctionBlock(lower_name="url" | "src"):
                    if keyword != "namespace":
                        yield from ((each.value, *here) for each in node.arguments[:2] if isinstance(each, StringToken))
                case FunctionBlock(lower_name="image-set" | "-webkit-image-set"):
                    yield from ((each.value, *here) for each in node.arguments if isinstance(each, StringToken))
                    deeper.append((node.arguments, use, place))
                case FunctionBlock():
                    deeper.append((node.arguments, use, place))
                case _ if hasattr(node, "content"):
                    in_font = keyword == "font-face" and node.type == "{} block"
                    deeper.append((node.content, Use.FONT, "@font-face") if in_font else (node.content, use, place))
                    keyword = "" if node.type == "{} block" else keyword
        stack.extend(reversed(deeper))
