"""What is asked of a look: the one type for the command, for Python and for surveys."""

from pathlib import Path

import msgspec


class LookRequest(msgspec.Struct, frozen=True):
    """The options of a look and its terms, as typed."""

    targets: tuple[str, ...] = ()
    canonical: str | None = None
    also: tuple[str, ...] = ()
    paths: tuple[str, ...] = ()
    routes: tuple[str, ...] = ()
    resolvers: tuple[str, ...] = ()
    origins: tuple[str, ...] = ()
    trust: tuple[Path, ...] = ()
    trust_only: tuple[Path, ...] = ()
    certificates: tuple[Path, ...] = ()
    ct_logs: tuple[Path, ...] = ()
    revocation: bool = False
    gentle: bool = False
    suppose: tuple[str, ...] = ()
    only: tuple[str, ...] = ()
    skip: tuple[str, ...] = ()
    timeout: float | None = None
    server: str = ""
    uses_site_file: bool = True
    """Where the folder has one of this site."""
