"""DNS messages: questions, and answers as evidence; dnspython reads all but what must not cost the whole message."""

import struct

import dns.edns
import dns.exception
import dns.flags
import dns.message
import dns.name
import dns.rcode
import dns.rdata
import dns.rdataclass
import dns.rdatatype

from pewter.evidence import Record, Reply

MAX_RECORDS = 400
"""Of one message; a set of more says no more."""

EDNS_OCTETS = 1232
"""RFC 9715 section 3.1."""

_OPAQUE = {64: 0xFF40, 65: 0xFF41, 257: 0xFF42}
"""SVCB, HTTPS and CAA are read as types for private use: a malformed one must not lose the message."""

_NAMES = {0xFF41: "HTTPS", 0xFF42: "CAA"}
_HEAD = 12


def build_query(
    name: str, record_type: str, number: int, *, recursion: bool, unchecked: bool, edns: bool, signed: bool
) -> bytes:
    """One question (RFC 1035 section 4.1); raises DNSException for a name that none can have."""
    flags = dns.flags.RD | dns.flags.AD if recursion else 0
    if unchecked:
        flags |= dns.flags.CD
    with_edns = edns or signed
    head = struct.pack("!HHHHHH", number, flags, 1, 0, 0, with_edns)
    wire = dns.name.from_text(name).to_wire()
    assert wire is not None
    question = wire + struct.pack("!HH", dns.rdatatype.from_text(record_type), 1)
    if not with_edns:
        return head + question
    # RFC 6891 section 6.1.2: the root's name, type, size in place of the class, and the DO bit in that of the TTL.
    return head + question + struct.pack("!BHHIH", 0, dns.rdatatype.OPT, EDNS_OCTETS, dns.flags.DO if signed else 0, 0)


def read_reply(octets: bytes, number: int, name: str, record_type: str) -> Reply | None:
    """The answer to a question of ours; None where the octets are none (RFC 5452 section 9.1).

    Linear in the octets.
    """
    if len(octets) < _HEAD or int.from_bytes(octets[:2], "big") != number or not octets[2] & 0x80:
        return None
    masked, left_out = _masked(octets)
    try:
        message = dns.message.from_wire(
            masked, continue_on_error=True, ignore_trailing=True, one_rr_per_rrset=True, raise_on_truncation=False
        )
    except (dns.exception.DNSException, ValueError, IndexError):
        return None
    if not _is_ours(message, name, record_type):
        return None
    flags = dns.flags.to_text(message.flags & (dns.flags.AA | dns.flags.TC | dns.flags.RA | dns.flags.AD)).lower()
    if message.flags & dns.flags.TC:
        # What a truncated answer holds is thrown away (RFC 2181 section 9).
        return Reply(_rcode(message), flags, has_edns=message.edns >= 0)
    return Reply(
        rcode=_rcode(message),
        flags=flags,
        answer=_records(message.answer),
        authority=_records(message.authority),
        additional=tuple(each for each in _records(message.additional) if each.type in {"A", "AAAA"}),
        has_edns=message.edns >= 0,
        extended=tuple(_extended(option) for option in message.options if isinstance(option, dns.edns.EDEOption))[:4],
        left_out=left_out + len(message.errors),
    )


def _is_ours(message: dns.message.Message, name: str, record_type: str) -> bool:
    """Some servers leave the question out of an error; of others it has to be ours."""
    if not message.question:
        return message.rcode() not in {dns.rcode.NOERROR, dns.rcode.NXDOMAIN}
    asked = message.question[0]
    wanted = dns.rdatatype.from_text(record_type)
    return asked.name == dns.name.from_text(name) and asked.rdtype in {wanted, _OPAQUE.get(int(wanted), wanted)}


def _rcode(message: dns.message.Message) -> str:
    return dns.rcode.to_text(message.rcode())


def _extended(option: dns.edns.EDEOption) -> str:
    return f"{int(option.code)} {option.text or ''}".strip()[:200]


def _records(section: list[dns.rrset.RRset]) -> tuple[Record, ...]:
    found = []
    for rrset in section:
        owner = _text(rrset.name)
        for rdata in rrset:
            read = _data(rdata)
            if read is not None:
                found.append(Record(owner, read[0], rrset.ttl, read[1]))
    # Servers rotate the order of a set from one answer to the next: it says nothing.
    return tuple(sorted(found, key=lambda each: (each.owner, each.type, each.data)))


def _text(name: dns.name.Name) -> str:
    return name.to_text(omit_final_dot=True).lower() if name != dns.name.root else "."


def _data(rdata: dns.rdata.Rdata) -> tuple[str, str] | None:
    """Its type and data as the evidence has them; None for a type that says nothing to us."""
    match rdata.rdtype:
        case dns.rdatatype.A | dns.rdatatype.AAAA:
            return rdata.rdtype.name, rdata.to_text()
        case dns.rdatatype.CNAME | dns.rdatatype.NS | dns.rdatatype.DNAME:
            return rdata.rdtype.name, _text(rdata.target)  # type: ignore[attr-defined]
        case dns.rdatatype.SOA:
            soa = rdata
            numbers = (soa.serial, soa.refresh, soa.retry, soa.expire, soa.minimum)  # type: ignore[attr-defined]
            return "SOA", f"{_text(soa.mname)} {_text(soa.rname)} {' '.join(map(str, numbers))}"  # type: ignore[attr-defined]
        case dns.rdatatype.DS:
            return "DS", rdata.to_text()
        case dns.rdatatype.DNSKEY:
            wire = rdata.to_wire() or b""
            return "DNSKEY", f"{int.from_bytes(wire[:2], 'big')} {wire[3]} {_key_tag(wire)}"
        case dns.rdatatype.RRSIG:
            sig = rdata
            covered = dns.rdatatype.to_text(sig.type_covered)  # type: ignore[attr-defined]
            return "RRSIG", f"{covered} {sig.expiration} {sig.inception} {sig.key_tag} {_text(sig.signer)}"  # type: ignore[attr-defined]
    if int(rdata.rdtype) in _NAMES:
        return _NAMES[int(rdata.rdtype)], rdata.to_wire().hex()  # type: ignore[union-attr]
    return None


def _key_tag(key: bytes) -> int:
    """RFC 4034 appendix B."""
    total = sum(octet if at % 2 else octet << 8 for at, octet in enumerate(key))
    return (total + (total >> 16)) & 0xFFFF


def _masked(octets: bytes) -> tuple[bytes, int]:
    """The message with the opaque types behind others, cut off after the records that are kept; how many are not."""
    counts = [int.from_bytes(octets[at : at + 2], "big") for at in (4, 6, 8, 10)]
    out, at, kept, ends = bytearray(octets), _HEAD, [counts[0], 0, 0, 0], 0
    try:
        for _ in range(min(counts[0], 4)):
            at = _mask_type(out, _after_name(octets, at))
            at += 2
        kept[0] = min(counts[0], 4)
        total = 0
        for section in (1, 2, 3):
            for _ in range(counts[section]):
                if total == MAX_RECORDS:
                    break
                at = _mask_type(out, _after_name(octets, at))
                length = int.from_bytes(octets[at + 6 : at + 8], "big")
                at += 8 + length
                if at > len(octets):
                    raise IndexError
                kept[section] += 1
                total += 1
                ends = at
    except IndexError:
        pass  # the rest of the message is not there
    for position, count in zip((4, 6, 8, 10), kept, strict=True):
        out[position : position + 2] = count.to_bytes(2, "big")
    return bytes(out[: max(ends, at if not sum(kept[1:]) else ends)]), sum(counts[1:]) - sum(kept[1:])


def _after_name(octets: bytes, at: int) -> int:
    """Where a name ends, which may end in a pointer; IndexError where the message does."""
    while True:
        length = octets[at]
        if length & 0xC0:
            return at + 2
        at += 1 + length
        if not length:
            return at


def _mask_type(out: bytearray, at: int) -> int:
    """Put another type in the place of an opaque one; where the type ends."""
    if at + 2 > len(out):
        raise IndexError
    found = int.from_bytes(out[at : at + 2], "big")
    if found in _OPAQUE:
        out[at : at + 2] = _OPAQUE[found].to_bytes(2, "big")
    return at + 2
