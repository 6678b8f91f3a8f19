"""Certificates in text files (RFC 7468) and as bare DER."""

import base64
import binascii
import re
from collections.abc import Container, Iterator

import msgspec
from cryptography.exceptions import UnsupportedAlgorithm

_SIGNED_DATA = bytes.fromhex("06092a864886f70d010702")
"""The object identifier 1.2.840.113549.1.7.2 as DER."""

_MARK = re.compile(r"-----(?P<edge>BEGIN|END) (?P<label>[A-Z0-9 #]{1,40})-----")
_MAX_TITLE = 200


class PemBlock(msgspec.Struct, frozen=True):
    """What stands between a BEGIN line and the END line of the same label, or what is wrong with one of them."""

    label: str
    start: int
    """Offset of its first mark in the text."""

    body: str = ""
    problem: str = ""
    has_begun: bool = True
    """False for an END line alone."""

    is_open: bool = False
    """Another block begins before its END line."""


def has_marks(text: str) -> bool:
    return _MARK.search(text) is not None


def read_blocks(text: str) -> Iterator[PemBlock]:
    """Every block in order; between blocks any text may stand (RFC 7468 section 2)."""
    opened: re.Match[str] | None = None
    for mark in _MARK.finditer(text):
        if mark["edge"] == "BEGIN":
            if opened is not None:
                yield PemBlock(opened["label"], opened.start(), problem="has no END line", is_open=True)
            opened = mark
        elif opened is None:
            yield PemBlock(mark["label"], mark.start(), problem="the beginning is missing", has_begun=False)
        elif opened["label"] != mark["label"]:
            words = f"it begins as {opened['label']} and ends as {mark['label']}"
            yield PemBlock(opened["label"], opened.start(), problem=words)
            opened = None
        else:
            yield PemBlock(mark["label"], opened.start(), text[opened.end() : mark.start()])
            opened = None
    if opened is not None:
        words = "the last line (END) is missing: the paste was cut off"
        yield PemBlock(opened["label"], opened.start(), problem=words)


def decode_body(body: str) -> bytes | None:
    """The octets of a block; None where its lines are no base64."""
    lines = [line.strip() for line in body.split("\n")]
    # Headers as in "Proc-Type: ..." end with an empty line (RFC 1421 section 4.4).
    if any(":" in line for line in lines) and "" in lines[1:]:
        lines = lines[lines.index("", 1) :]
    try:
        return base64.b64decode("".join(lines), validate=True)
    except (binascii.Error, ValueError):
        return None


def _octets_of(octets: bytes, labels: Container[str]) -> Iterator[tuple[str, bytes]]:
    """The line above, and what is in it, of each whole block with one of these labels."""
    text = octets.decode("latin-1")
    for block in read_blocks(text):
        found = decode_body(block.body) if block.label in labels and not block.problem else None
        if found is not None:
            above = text[max(block.start - _MAX_TITLE - 2, 0) : block.start].rstrip("\r\n").rpartition("\n")[2]
            yield above.encode("latin-1").decode("utf-8", "replace"), found


def read_certificate_blocks(octets: bytes) -> tuple[bytes, ...]:
    """The DER octets of every certificate in a PEM, DER or PKCS #7 file, in order.

    Text around the blocks is passed over.  A block that is no base64 is left out, so that an empty
    result means: no certificate here.
    """
    found = tuple(each for _, each in _octets_of(octets, {"CERTIFICATE", "X509 CERTIFICATE"}))
    if found or octets[:1] != b"\x30":
        return found
    if is_certificate_set(octets):
        try:
            return read_certificate_set(octets)
        except ValueError:
            return ()
    return (octets,)


def write_pem(octets: bytes) -> bytes:
    """One certificate as PEM (RFC 7468 section 5.1), with a line end after it."""
    text = base64.b64encode(octets).decode("ascii")
    lines = (text[start : start + 64] for start in range(0, len(text), 64))
    return "\n".join(("-----BEGIN CERTIFICATE-----", *lines, "-----END CERTIFICATE-----", "")).encode("ascii")


def read_public_keys(octets: bytes) -> tuple[tuple[str, bytes], ...]:
    """Title (the line above the block; may be empty) and SubjectPublicKeyInfo of every PUBLIC KEY block."""
    found = _octets_of(octets, {"PUBLIC KEY"})
    return tuple(("" if title.startswith("---") else title.strip().lstrip("#").strip(), each) for title, each in found)


def is_certificate_set(octets: bytes) -> bool:
    """Whether DER is a PKCS #7 SignedData (RFC 2315 section 9.1), the form in which some CAs publish issuers."""
    return _SIGNED_DATA in octets[:32]


def read_certificate_set(octets: bytes) -> tuple[bytes, ...]:
    """The certificates of a PKCS #7 SignedData as DER.  Raises ValueError where it cannot be read."""
    from cryptography.hazmat.primitives.serialization import Encoding, pkcs7  # noqa: PLC0415  slow to load

    try:
        certificates = pkcs7.load_der_pkcs7_certificates(octets)
    except UnsupportedAlgorithm as exc:
        raise ValueError(str(exc)) from exc
    return tuple(each.public_bytes(Encoding.DER) for each in certificates)
