"""DNS messages: questions, and answers as evidence (RFC 1035 section 4, RFC 6891).

A record that cannot be read costs itself alone.  CAA and HTTPS records are kept as octets: a malformed one tells too.
"""

import re
import socket
import struct
from collections.abc import Callable
from dataclasses import dataclass, field

import dns.exception
import dns.flags
import dns.name
import dns.rcode
import dns.rdatatype

from pewter.evidence import Record, Reply
from pewter.octets import DecodeError

MAX_RECORDS = 400
"""Of one message; a set of more says no more."""

EDNS_OCTETS = 1232
"""RFC 9715 section 3.1."""

MAX_NAME, MAX_POINTERS = 255, 126
"""Octets of a name (RFC 1035 section 3.1), and pointers of one: no name has more labels."""

MAX_EXTENDED = 4
_INTERNET = 1
_PLAIN_NAME = re.compile(r"(?:[A-Za-z0-9_-]{1,63}\.)*[A-Za-z0-9_-]{1,63}\.?")
_PLAIN_LABEL = re.compile(rb"[A-Za-z0-9_*-]+")
_ESCAPED = frozenset(b'"().;\\@$')
_DIGEST_OCTETS = {1: 20, 2: 32, 4: 48}
_EXTENDED_ERROR = 15
"""RFC 8914 section 2."""


# Questions


def build_query(
    name: str, record_type: str, number: int, *, recursion: bool, unchecked: bool, edns: bool, signed: bool
) -> bytes:
    """One question (RFC 1035 section 4.1); raises DNSException for a name that none can have."""
    flags = dns.flags.RD | dns.flags.AD if recursion else 0
    if unchecked:
        flags |= dns.flags.CD
    with_edns = edns or signed
    head = struct.pack("!HHHHHH", number, flags, 1, 0, 0, with_edns)
    question = _wire_of(name) + struct.pack("!HH", dns.rdatatype.from_text(record_type), _INTERNET)
    if not with_edns:
        return head + question
    # RFC 6891 section 6.1.2: the root's name, type, size in place of the class, and the DO bit in that of the TTL.
    return head + question + struct.pack("!BHHIH", 0, dns.rdatatype.OPT, EDNS_OCTETS, dns.flags.DO if signed else 0, 0)


def _wire_of(name: str) -> bytes:
    """The octets of a name; DNSException for what is none."""
    if len(name) < MAX_NAME - 1 and _PLAIN_NAME.fullmatch(name):
        labels = name.removesuffix(".").encode("ascii").split(b".")
        return b"".join(bytes((len(label),)) + label for label in labels) + b"\x00"
    wire = dns.name.from_text(name).to_wire()
    assert wire is not None
    return wire


# Answers


def read_reply(octets: bytes, number: int, name: str, record_type: str) -> Reply | None:
    """The answer to a question of ours; None where the octets are none (RFC 5452 section 9.1).

    Linear in the octets.
    """
    try:
        message = _read(octets, number)
        if message is None or not _is_ours(message, name, record_type):
            return None
    except (DecodeError, dns.exception.DNSException):
        return None
    flags = " ".join(text for bit, text in _FLAGS if message.flags & bit)
    rcode = dns.rcode.to_text(dns.rcode.Rcode.make(message.rcode))
    if message.flags & dns.flags.TC:
        # What a truncated answer holds is thrown away (RFC 2181 section 9).
        return Reply(rcode, flags, has_edns=message.has_edns)
    # Servers rotate the order of a set from one answer to the next: it says nothing.
    answer, authority, additional = (tuple(sorted(each, key=_in_order)) for each in message.sections)
    return Reply(
        rcode=rcode,
        flags=flags,
        answer=answer,
        authority=authority,
        additional=tuple(each for each in additional if each.type in {"A", "AAAA"}),
        has_edns=message.has_edns,
        extended=tuple(message.extended[:MAX_EXTENDED]),
        left_out=message.left_out,
    )


_FLAGS = ((int(dns.flags.AA), "aa"), (int(dns.flags.TC), "tc"), (int(dns.flags.RA), "ra"), (int(dns.flags.AD), "ad"))
_HEAD = struct.Struct("!HHHHHH")
_RECORD = struct.Struct("!HHIH")


def _in_order(record: Record) -> tuple[str, str, str]:
    return record.owner, record.type, record.data


@dataclass
class _Message:
    """What was read of one, as far as it goes."""

    flags: int
    rcode: int
    question: tuple[str, int] | None = None
    """Name and type of the first."""

    sections: tuple[list[Record], list[Record], list[Record]] = field(default_factory=lambda: ([], [], []))
    has_edns: bool = False
    extended: list[str] = field(default_factory=list)
    left_out: int = 0
    """Records that are not there, or that cannot be read."""


def _read(octets: bytes, number: int) -> _Message | None:
    """None for what is no response with that number; DecodeError where its question cannot be read."""
    if len(octets) < _HEAD.size:
        return None
    identity, flags, questions, *counts = _HEAD.unpack_from(octets)
    if identity != number or not flags & dns.flags.QR or flags & 0x7800:
        return None
    message, at = _Message(flags, flags & 0xF), _HEAD.size
    for _ in range(min(questions, 4)):
        name, at = _read_name(octets, at)
        if at + 4 > len(octets):
            raise DecodeError("question", at, "it ends early")
        message.question = message.question or (name, int.from_bytes(octets[at : at + 2], "big"))
        at += 4
    left = sum(counts)
    try:
        for section, count in zip(message.sections, counts, strict=True):
            for _ in range(min(count, MAX_RECORDS - sum(counts) + left)):
                at = _take_record(message, section, octets, at)
                left -= 1
    except DecodeError:
        pass  # the rest of the message is not there
    message.left_out += left
    return message


def _take_record(message: _Message, section: list[Record], octets: bytes, at: int) -> int:
    """Read one record, and say where it ends; DecodeError where that cannot be told."""
    owner, at = _read_name(octets, at)
    start = at + _RECORD.size
    if start > len(octets):
        raise DecodeError("record", at, "it ends early")
    kind, of_class, ttl, length = _RECORD.unpack_from(octets, at)
    end: int = start + length
    if end > len(octets):
        raise DecodeError("record", start, f"{length} octets of data, {len(octets) - start} left")
    if kind == dns.rdatatype.OPT:
        if section is message.sections[2] and not message.has_edns:
            message.has_edns = True
            message.rcode |= ttl >> 24 << 4
            message.extended += _extended_errors(octets[start:end])
    elif kind in _READERS and of_class == _INTERNET:
        type_text, read = _READERS[kind]
        try:
            # A TTL with its first bit set counts as zero (RFC 2181 section 8).
            section.append(Record(owner, type_text, ttl if ttl < 1 << 31 else 0, read(octets, start, end)))
        except DecodeError:
            message.left_out += 1
    return end


def _is_ours(message: _Message, name: str, record_type: str) -> bool:
    """Some servers leave the question out of an error; of others it has to be ours."""
    if message.question is None:
        return message.rcode not in {int(dns.rcode.NOERROR), int(dns.rcode.NXDOMAIN)}
    return message.question == (_read_name(_wire_of(name), 0)[0], int(dns.rdatatype.from_text(record_type)))


def _extended_errors(options: bytes) -> list[str]:
    """RFC 8914: ``22 no reachable authority``."""
    found, at = [], 0
    while at + 4 <= len(options):
        code, length = struct.unpack_from("!HH", options, at)
        body = options[at + 4 : at + 4 + length]
        if code == _EXTENDED_ERROR and len(body) >= 2:
            text = body[2:].removesuffix(b"\x00").decode("utf-8", "replace")
            found.append(f"{int.from_bytes(body[:2], 'big')} {text}".strip()[:200])
        at += 4 + length
    return found


# Names


def _read_name(octets: bytes, at: int, limit: int | None = None) -> tuple[str, int]:
    """A name, which may end in a pointer to an earlier one, as text in lower case; and where it ends."""
    limit = len(octets) if limit is None else limit
    labels: list[str] = []
    total, lowest, pointers, ends = 1, at, 0, 0
    while True:
        if at >= limit:
            raise DecodeError("name", at, "it ends early")
        length = octets[at]
        if length >= 0xC0:
            target = int.from_bytes(octets[at : at + 2], "big") & 0x3FFF
            pointers += 1
            if at + 2 > limit or target >= lowest or pointers > MAX_POINTERS:
                raise DecodeError("name", at, "a pointer that leads to no earlier name")
            ends = ends or at + 2
            at = lowest = target
            continue
        if length > 63:
            raise DecodeError("name", at, "a label of an unknown kind")
        at += 1
        if not length:
            return ".".join(labels) or ".", ends or at
        total += 1 + length
        if at + length > limit or total > MAX_NAME:
            raise DecodeError("name", at, "it is too long")
        labels.append(_label_text(octets[at : at + length]))
        at += length


def _label_text(label: bytes) -> str:
    """Presentation form (RFC 4343 section 2.1)."""
    if _PLAIN_LABEL.fullmatch(label):
        return label.decode("ascii").lower()
    return "".join(
        f"\\{chr(octet)}" if octet in _ESCAPED else chr(octet) if 0x20 < octet < 0x7F else f"\\{octet:03d}"
        for octet in label
    ).lower()


# Data, from where it starts to where it ends


def _ipv4(octets: bytes, at: int, end: int) -> str:
    if end - at != 4:
        raise DecodeError("A", at, f"{end - at} octets")
    return socket.inet_ntop(socket.AF_INET, octets[at:end])


def _ipv6(octets: bytes, at: int, end: int) -> str:
    if end - at != 16:
        raise DecodeError("AAAA", at, f"{end - at} octets")
    return socket.inet_ntop(socket.AF_INET6, octets[at:end])


def _target(octets: bytes, at: int, end: int) -> str:
    name, after = _read_name(octets, at, end)
    if after != end:
        raise DecodeError("target", after, "octets are left over")
    return name


def _soa(octets: bytes, at: int, end: int) -> str:
    primary, at = _read_name(octets, at, end)
    mailbox, at = _read_name(octets, at, end)
    if end - at != 20:
        raise DecodeError("SOA", at, "five numbers expected")
    return f"{primary} {mailbox} {' '.join(map(str, struct.unpack_from('!IIIII', octets, at)))}"


def _ds(octets: bytes, at: int, end: int) -> str:
    data = octets[at:end]
    if len(data) < 5 or len(data) - 4 != _DIGEST_OCTETS.get(data[3], len(data) - 4):
        raise DecodeError("DS", at, f"{len(data)} octets")
    return f"{int.from_bytes(data[:2], 'big')} {data[2]} {data[3]} {data[4:].hex()}"


def _dnskey(octets: bytes, at: int, end: int) -> str:
    key = octets[at:end]
    if len(key) < 4:
        raise DecodeError("DNSKEY", at, f"{len(key)} octets")
    return f"{int.from_bytes(key[:2], 'big')} {key[3]} {_key_tag(key)}"


def _key_tag(key: bytes) -> int:
    """RFC 4034 appendix B."""
    total = sum(octet if at % 2 else octet << 8 for at, octet in enumerate(key))
    return (total + (total >> 16)) & 0xFFFF


def _rrsig(octets: bytes, at: int, end: int) -> str:
    if end - at < 18:
        raise DecodeError("RRSIG", at, f"{end - at} octets")
    covered, _, _, _, expiration, inception, key_tag = struct.unpack_from("!HBBIIIH", octets, at)
    signer, _ = _read_name(octets, at + 18, end)
    return f"{dns.rdatatype.to_text(covered)} {expiration} {inception} {key_tag} {signer}"


def _hexadecimal(octets: bytes, at: int, end: int) -> str:
    return octets[at:end].hex()


_READERS: dict[int, tuple[str, Callable[[bytes, int, int], str]]] = {
    1: ("A", _ipv4),
    2: ("NS", _target),
    5: ("CNAME", _target),
    6: ("SOA", _soa),
    28: ("AAAA", _ipv6),
    39: ("DNAME", _target),
    43: ("DS", _ds),
    46: ("RRSIG", _rrsig),
    48: ("DNSKEY", _dnskey),
    65: ("HTTPS", _hexadecimal),
    257: ("CAA", _hexadecimal),
}
"""Types that say something to us, by their numbers."""
