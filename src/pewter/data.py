"""Data files that come with the program, beside the modules that read them."""

from pathlib import Path
from typing import Any


def text_beside(module: str, *names: str) -> str:
    """Of the file at these names beside a module's ``__file__``."""
    return Path(module).parent.joinpath(*names).read_text(encoding="utf-8")


def toml_beside(module: str, *names: str) -> dict[str, Any]:
    """Likewise; the reader of TOML, which is compiled, is loaded with the first of them."""
    import tomli  # noqa: PLC0415

    return tomli.loads(text_beside(module, *names))
