"""DNS messages: questions, and answers as evidence (RFC 1035 section 4, RFC 6891).

A record that cannot be read costs itself alone.  CAA and HTTPS records are kept as octets: a malformed one tells too.
"""

import enum
import ipaddress
import re
import struct
from collections.abc import Callable
from dataclasses import dataclass, field

from pewter.evidence import Record, Reply
from pewter.octets import DecodeError

from .labels import label_text

MAX_RECORDS = 400
"""Of one message; a set of more says no more."""

EDNS_OCTETS = 1232
"""RFC 9715 section 3.1."""

MAX_NAME, MAX_LABEL, MAX_POINTERS = 255, 63, 126
"""Octets of a name and of a label (RFC 1035 section 3.1), and pointers of one: no name has more labels."""

MAX_EXTENDED = 4
_INTERNET = 1
_PLAIN_NAME = re.compile(r"(?:[A-Za-z0-9_-]{1,63}\.)*[A-Za-z0-9_-]{1,63}\.?")
_DIGEST_OCTETS = {1: 20, 2: 32, 4: 48}
_EXTENDED_ERROR = 15
"""RFC 8914 section 2."""


class Flag(enum.IntFlag):
    """Of a message's head (RFC 1035 section 4.1.1, RFC 4035 section 3.2)."""

    QR = 0x8000
    AA = 0x0400
    TC = 0x0200
    RD = 0x0100
    RA = 0x0080
    AD = 0x0020
    CD = 0x0010


DNSSEC_OK = 0x8000
"""In the TTL of an OPT record (RFC 3225)."""

_OPT = 41
_TYPES = {
    1: "A", 2: "NS", 5: "CNAME", 6: "SOA", 12: "PTR", 13: "HINFO", 15: "MX", 16: "TXT", 28: "AAAA", 33: "SRV",
    35: "NAPTR", 39: "DNAME", 43: "DS", 44: "SSHFP", 46: "RRSIG", 47: "NSEC", 48: "DNSKEY", 50: "NSEC3",
    51: "NSEC3PARAM", 52: "TLSA", 59: "CDS", 60: "CDNSKEY", 61: "OPENPGPKEY", 62: "CSYNC", 63: "ZONEMD", 64: "SVCB",
    65: "HTTPS", 99: "SPF", 256: "URI", 257: "CAA",
}  # fmt: skip
_NUMBERS = {text: number for number, text in _TYPES.items()}
_RCODES = {
    0: "NOERROR", 1: "FORMERR", 2: "SERVFAIL", 3: "NXDOMAIN", 4: "NOTIMP", 5: "REFUSED", 6: "YXDOMAIN", 7: "YXRRSET",
    8: "NXRRSET", 9: "NOTAUTH", 10: "NOTZONE", 11: "DSOTYPENI", 16: "BADVERS", 17: "BADKEY", 18: "BADTIME",
    19: "BADMODE", 20: "BADNAME", 21: "BADALG", 22: "BADTRUNC", 23: "BADCOOKIE",
}  # fmt: skip
"""RFC 6895 section 2.3."""


# Questions


def build_query(
    name: str, record_type: str, number: int, *, recursion: bool, unchecked: bool, edns: bool, signed: bool
) -> bytes:
    """One question (RFC 1035 section 4.1); raises DecodeError for a name that none can have."""
    flags = int(Flag.RD | Flag.AD) if recursion else 0
    if unchecked:
        flags |= Flag.CD
    with_edns = edns or signed
    head = struct.pack("!HHHHHH", number, flags, 1, 0, 0, with_edns)
    question = _wire_of(name) + struct.pack("!HH", _NUMBERS[record_type], _INTERNET)
    if not with_edns:
        return head + question
    # RFC 6891 section 6.1.2: the root's name, type, size in place of the class, and the DO bit in that of the TTL.
    return head + question + struct.pack("!BHHIH", 0, _OPT, EDNS_OCTETS, DNSSEC_OK if signed else 0, 0)


def _wire_of(name: str) -> bytes:
    """The octets of a name in presentation form (RFC 1035 section 5.1); DecodeError for what is none."""
    if len(name) < MAX_NAME - 1 and _PLAIN_NAME.fullmatch(name):
        labels = name.removesuffix(".").encode("ascii").split(b".")
        return b"".join(bytes((len(label),)) + label for label in labels) + b"\x00"
    found = [] if name in {"", "."} else [bytes(label) for label in _labels_of(name.removesuffix("."))]
    if any(not 0 < len(label) <= MAX_LABEL for label in found) or sum(map(len, found)) + len(found) >= MAX_NAME:
        raise DecodeError("name", 0, "its labels are too long, or one is empty")
    return b"".join(bytes((len(label),)) + label for label in found) + b"\x00"


_PIECE = re.compile(r"\\([0-9]{3})|\\([^0-9])|([^\\])", re.DOTALL)


def _labels_of(name: str) -> list[bytearray]:
    labels, at = [bytearray()], 0
    while at < len(name):
        piece = _PIECE.match(name, at)
        if piece is None:
            raise DecodeError("name", at, "a backslash with nothing behind it")
        at = piece.end()
        number, quoted, plain = piece.groups()
        if plain == ".":
            labels.append(bytearray())
            continue
        octet = int(number) if number is not None else ord(quoted or plain)
        if octet > (0xFF if number is not None else 0x7F):
            raise DecodeError("name", at, "no octet of a name")
        labels[-1].append(octet)
    return labels


# Answers


def read_reply(octets: bytes, number: int, name: str, record_type: str) -> Reply | None:
    """The answer to a question of ours; None where the octets are none (RFC 5452 section 9.1).

    Linear in the octets.
    """
    try:
        message = _read(octets, number)
        if message is None or not _is_ours(message, name, record_type):
            return None
    except DecodeError:
        return None
    flags = " ".join(text for bit, text in _FLAGS if message.flags & bit)
    rcode = _RCODES.get(message.rcode, str(message.rcode))
    if message.flags & Flag.TC:
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


_FLAGS = ((int(Flag.AA), "aa"), (int(Flag.TC), "tc"), (int(Flag.RA), "ra"), (int(Flag.AD), "ad"))
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
    if identity != number or not flags & Flag.QR or flags & 0x7800:
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
    if kind == _OPT:
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
        return message.rcode not in {0, 3}
    return message.question == (_read_name(_wire_of(name), 0)[0], _NUMBERS[record_type])


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
        labels.append(label_text(octets[at : at + length]))
        at += length


# Data, from where it starts to where it ends


def _ipv4(octets: bytes, at: int, end: int) -> str:
    if end - at != 4:
        raise DecodeError("A", at, f"{end - at} octets")
    return str(ipaddress.IPv4Address(octets[at:end]))


def _ipv6(octets: bytes, at: int, end: int) -> str:
    if end - at != 16:
        raise DecodeError("AAAA", at, f"{end - at} octets")
    address = ipaddress.IPv6Address(octets[at:end])
    # RFC 5952 section 5: of an IPv4-mapped address the last part in the form of IPv4.
    return f"::ffff:{address.ipv4_mapped}" if address.ipv4_mapped is not None else str(address)


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
    return f"{_TYPES.get(covered, f'TYPE{covered}')} {expiration} {inception} {key_tag} {signer}"


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
