"""The vectors of html5lib 1.1 (MIT licence, beside them): which encoding a page is in, and what its tags are.

Its further files of tokens, of 5,756 vectors, were held against our reader by hand once: all agree.
"""

import json
from collections.abc import Iterator
from pathlib import Path

import pytest
import webencodings

from pewter.web.encodings import encoding_of
from pewter.web.markup import StartTag, read_tags
from pewter.web.pages import decode_page

HERE = Path(__file__).parent / "html5lib"
TEXT = {"script", "style", "xmp", "iframe", "noembed", "noframes", "noscript", "title", "textarea", "plaintext"}
"""Elements whose content is text: a bare tokenizer does not know it."""

BY_SCRIPT = ("document.write(", "multi-script test")
"""In these a script writes the meta element: nothing that is read without running it."""


def encodings() -> Iterator[tuple[bytes, str]]:
    for file in sorted(HERE.glob("encoding*.dat")):
        for part in file.read_bytes().split(b"#data\n")[1:]:
            octets, _, encoding = part.partition(b"\n#encoding\n")
            yield octets, encoding.strip().split(b"\n")[0].decode()


def test_encodings():
    """A vector's page, with a letter at its end that differs from encoding to encoding."""
    held = 0
    for octets, label in encodings():
        if any(each in octets.decode("latin-1") for each in BY_SCRIPT):
            continue
        wanted = webencodings.lookup(label)
        assert wanted is not None
        declared = encoding_of(octets)
        expected, _ = webencodings.decode(
            octets + b"\xe9", wanted if declared or wanted.name != "windows-1252" else webencodings.UTF8
        )
        assert decode_page(octets + b"\xe9", "") == expected, octets
        held += 1
    assert held == 79


def tokens(name: str) -> Iterator[tuple[str, list[tuple[str, str, dict[str, str]]]]]:
    for vector in json.loads((HERE / f"{name}.test").read_text(encoding="utf-8"))["tests"]:
        if "Data state" not in vector.get("initialStates", ["Data state"]):
            continue
        text, output = vector["input"], vector["output"]
        if vector.get("doubleEscaped"):
            text, output = (json.loads(json.dumps(each).replace("\\\\u", "\\u")) for each in (text, output))
        tags = [each for each in output if isinstance(each, list) and each[0] in {"StartTag", "EndTag"}]
        if not any(tag[1] in TEXT for tag in tags):
            yield text, [(kind, title, rest[0] if kind == "StartTag" else {}) for kind, title, *rest in tags]


@pytest.mark.parametrize(
    ("name", "count"),
    [("test1", 54), ("test2", 45), ("test4", 85), ("domjs", 8), ("entities", 80), ("numericEntities", 336), ("unicodeChars", 323)],
)  # fmt: skip
def test_tags(name, count):
    held = 0
    for text, wanted in tokens(name):
        normal = text.replace("\r\n", "\n").replace("\r", "\n")
        found = [
            ("StartTag", tag.name, tag.attributes) if isinstance(tag, StartTag) else ("EndTag", tag.name, {})
            for tag in read_tags(normal)
        ]
        assert found == wanted, text
        held += 1
    assert held == count
