"""Whose a saved review is: those of this user carry a mark, made with a key that lies in the user's own state folder.

Another's decides neither whom the next look contacts and trusts, nor what is said in our voice.
"""

import contextlib
import hashlib
import hmac
import os
import re
import secrets
from collections.abc import Iterator
from pathlib import Path

import msgspec

from pewter.errors import FileError
from pewter.evidence import Evidence, is_ip_address, is_this_machine
from pewter.judge.review import OWN, Review
from pewter.names.addresses import why_not_public
from pewter.phrases import all_of, counted

from .files import read_bounded

_KEY_OCTETS, _MARK_LENGTH = 32, 32
_SIGNED, _UNSIGNED = re.compile(rb'"mark":"([0-9a-f]{32})"\}\n\Z'), re.compile(rb'"mark":"own"\}\n\Z')
_TAIL = 128
"""Octets at the end of a file in which the mark stands."""

_NAMED = 6
"""Things of a file that are named before the rest is counted."""


def marked(review: Review) -> Review:
    """As this user's own, whose file is to be signed."""
    return msgspec.structs.replace(review, mark=OWN)


def signed(octets: bytes) -> bytes:
    """A saved review with the mark of this user, where it is own; as it is where no key can be kept."""
    own = _UNSIGNED.search(octets)
    key = _key(make=True) if own is not None else None
    return octets[: own.start()] + _with(_mark(octets, key)) if own is not None and key is not None else octets


def is_signed(octets: bytes) -> bool:
    """Whether this user's Pewter wrote it, and nobody changed it since."""
    found = _SIGNED.search(octets[-_TAIL:])
    key = _key(make=False) if found is not None else None
    if found is None or key is None:
        return False
    body = octets[: -len(found[0])] + _with(OWN)
    return hmac.compare_digest(found[1].decode("ascii"), _mark(body, key))


def _with(mark: str) -> bytes:
    return b'"mark":"%s"}\n' % mark.encode("ascii")


def _mark(octets: bytes, key: bytes) -> str:
    return hmac.new(key, octets, hashlib.sha256).hexdigest()[:_MARK_LENGTH]


def decided_by(evidence: Evidence) -> tuple[str, ...]:
    """What a file would have contacted or trusted beyond the public addresses of its names: in words, each."""
    return tuple(_decided(evidence))


def named(what: tuple[str, ...]) -> str:
    """In one line."""
    left = len(what) - _NAMED
    return all_of([*what[:_NAMED], *([f"{left} more"] if left > 0 else [])])


def _decided(evidence: Evidence) -> Iterator[str]:
    plan = evidence.plan
    for target in plan.targets:
        if is_this_machine(target.host):
            yield f"{target.host} (this machine)"
        elif is_ip_address(target.host) and (kind := why_not_public(target.host)) is not None:
            yield f"{target.host} ({kind})"
    yield from (f"the route {route}" for route in plan.routes)
    yield from (f"the resolver {resolver}" for resolver in plan.resolvers)
    yield from (f"the origin {origin}" for origin in plan.origins)
    if evidence.given_trust:
        only = " alone" if evidence.trusts_given_only else ""
        yield f"{counted(len(evidence.given_trust), 'root certificate')} of its own{only}"


def _folder() -> Path | None:
    if state := os.environ.get("XDG_STATE_HOME"):
        return Path(state) / "pewter"
    with contextlib.suppress(RuntimeError):  # no home
        return Path.home() / ".local" / "state" / "pewter"
    return None


def _key(*, make: bool) -> bytes | None:
    folder = _folder()
    if folder is None:
        return None
    file = folder / "key"
    try:
        if make and not file.exists():
            folder.mkdir(parents=True, exist_ok=True, mode=0o700)
            descriptor = os.open(file, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
            with os.fdopen(descriptor, "wb") as made:
                made.write(secrets.token_bytes(_KEY_OCTETS))
        key = read_bounded(file, _KEY_OCTETS, "key of Pewter's")
    except (OSError, ValueError, FileError):
        return None
    return key if len(key) == _KEY_OCTETS else None
