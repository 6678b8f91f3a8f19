"""The reviewer's own files: what is trusted, what lies on the server, keys of logs, recordings of a browser."""

import datetime
import time
from collections.abc import Callable
from pathlib import Path

from pewter.errors import FileError
from pewter.evidence import GivenLog
from pewter.phrases import counted
from pewter.pki import Certificate, Log, read_certificate, read_certificate_blocks
from pewter.pki.pem import read_public_keys
from pewter.web.har import MAX_ENTRIES, MAX_FILE, HarError, Recording, read_har

from .files import read_bounded

MAX_TRUST_FILE = 16 << 20
RECORDING_SECONDS = 10.0
"""For the pages of one recording."""


def read_trust_file(path: Path) -> list[Certificate]:
    """Every certificate of a file; FileError where there is none."""
    found = [read_certificate(der) for der in read_certificate_blocks(read_bounded(path, MAX_TRUST_FILE))]
    certificates = [each for each in found if isinstance(each, Certificate)]
    if not certificates:
        raise FileError(f"{path} holds no certificate that can be read. --trust takes root certificates as PEM or DER.")
    return certificates


def read_certificate_file(path: Path, say: Callable[[str], None]) -> tuple[bytes, ...]:
    """DER of every certificate of a file that can be read; FileError where there is none.

    Nothing else is kept: under the label of a certificate may stand a private key, and reviews are passed on.
    """
    blocks = read_certificate_blocks(read_bounded(path, MAX_TRUST_FILE))
    found = tuple(der for der in blocks if isinstance(read_certificate(der), Certificate))
    if not found:
        raise FileError(f"{path} holds no certificate that can be read. 'pewter bundle {path}' says what it holds.")
    if len(found) < len(blocks):
        say(f"{path}: {len(blocks) - len(found)} of its {len(blocks)} blocks cannot be read and are left aside")
    return found


def read_log_file(path: Path) -> list[GivenLog]:
    """The public keys of logs as PEM; the line of text above a key is the log's name."""
    found: list[GivenLog] = []
    for title, spki in read_public_keys(read_bounded(path, MAX_TRUST_FILE)):
        log = Log(title or f"log {len(found) + 1} of {path.name}", spki)
        if log.key is not None:
            found.append(GivenLog(log.title, spki))
    if not found:
        raise FileError(f"{path} holds no public key of a log. --ct-logs takes PEM, the log's name above each key.")
    return found


def read_har_file(path: Path, say: Callable[[str], None]) -> Recording:
    """Journeys and pages of a recording; FileError for what is none."""
    octets = read_bounded(path, MAX_FILE, "HAR recording: record again with less, or without contents")
    try:
        until = time.monotonic() + RECORDING_SECONDS
        found = read_har(octets, datetime.datetime.now(datetime.UTC), lambda: time.monotonic() < until)
    except HarError as exc:
        raise FileError(f"{path} is no HAR recording: {exc}. Browsers save one from their network panel.") from exc
    if found.answers_left_out:
        say(f"{path}: left out {found.answers_left_out:,} answers behind the first {MAX_ENTRIES:,}")
    if found.pages_left_out:
        say(f"{path}: left out the contents of {counted(found.pages_left_out, 'page')}: too much to be read")
    return found
