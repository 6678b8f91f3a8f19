"""Which CAs may issue: CAA records, their climb and their values (RFC 8659)."""

import re
from collections.abc import Callable, Sequence

import msgspec

from pewter.evidence import Reply, Unseen

from .answers import ancestors, final_data

CRITICAL = 128
KNOWN_TAGS = frozenset({"issue", "issuewild", "iodef", "issuemail", "contactemail", "contactphone", "issuevmc"})
_TAG = re.compile(r"[A-Za-z0-9]{1,255}")
_LABEL = r"[A-Za-z0-9](?:[A-Za-z0-9-]{0,61}[A-Za-z0-9])?"
# Possessive: a value of 60,000 blanks is refused in one pass.
_PARAMETER = r"[A-Za-z0-9-]++[ \t]*+=[ \t]*+[\x21-\x3a\x3c-\x7e]*+"
_DOMAIN = re.compile(rf"{_LABEL}(?:\.{_LABEL})*")
_PARAMETERS = re.compile(rf"{_PARAMETER}(?:[ \t]++{_PARAMETER})*+")


class Caa(msgspec.Struct, frozen=True):
    """One record."""

    flags: int
    tag: str
    """Lower case; empty where the octets are no record."""

    value: str
    problem: str = ""
    """What is wrong with it; it forbids all the same where it is an ``issue``."""

    @property
    def is_critical(self) -> bool:
        return bool(self.flags & CRITICAL)

    @property
    def issuer(self) -> str:
        """The CA's domain; empty for a value that allows nobody."""
        return "" if self.problem else self.value.partition(";")[0].strip(" \t").lower()

    @property
    def parameters(self) -> str:
        return self.value.partition(";")[2].strip(" \t")

    def __str__(self) -> str:
        return f'{self.flags} {self.tag} "{self.value}"'


def read_caa(octets: bytes) -> Caa:
    """Read the data of a CAA record (RFC 8659 section 4.1); never raises."""
    if len(octets) < 2 or not octets[1] or len(octets) < 2 + octets[1]:
        return Caa(octets[0] if octets else 0, "", octets.hex(), "no tag")
    flags, length = octets[0], octets[1]
    tag = octets[2 : 2 + length].decode("latin-1")
    value = octets[2 + length :].decode("latin-1")
    if not _TAG.fullmatch(tag):
        return Caa(flags, tag.lower(), value, f"the tag {tag!r} has other characters than letters and digits")
    tag = tag.lower()
    if tag in {"issue", "issuewild", "issuemail"} and (why := _why_no_issuer(value)):
        return Caa(flags, tag, value, why)
    return Caa(flags, tag, value)


def _why_no_issuer(value: str) -> str:
    """What is against a value of ``[issuer-domain] *(";" parameter)`` (section 4.2); empty: nothing."""
    domain, *parameters = (part.strip(" \t") for part in value.split(";"))
    if domain and not _DOMAIN.fullmatch(domain):
        return f"{domain[:80]!r} is no domain of a CA"
    for parameter in parameters:
        # RFC 6844 had blanks between them.
        if parameter and not _PARAMETERS.fullmatch(parameter):
            return f"{parameter[:80]!r} is no parameter"
    return ""


def oddities(record: Caa) -> list[str]:
    """What makes a record that cannot mean what was meant."""
    found = [record.problem] if record.problem else []
    if record.is_critical and record.tag not in KNOWN_TAGS:
        found.append(f"the tag {record.tag!r} is critical, and no CA knows it: nobody may issue")
    elif record.tag not in KNOWN_TAGS and (near := _near(record.tag)):
        found.append(f"the tag {record.tag!r} is none; {near} was meant?")
    if record.flags not in {0, CRITICAL}:
        found.append(f"the flags are {record.flags}: 128 makes a tag critical, 1 does not")
    return found


def _near(tag: str) -> str:
    return next((known for known in sorted(KNOWN_TAGS) if _is_one_off(tag, known)), "")


def _is_one_off(one: str, other: str) -> bool:
    """Whether a letter more, less or other makes one of the other."""
    if abs(len(one) - len(other)) > 1 or one == other:
        return False
    start = next((at for at, (a, b) in enumerate(zip(one, other, strict=False)) if a != b), min(len(one), len(other)))
    return one[start + (len(one) >= len(other)) :] == other[start + (len(other) >= len(one)) :]


class RelevantSet(msgspec.Struct, frozen=True):
    """The set that decides for a name, and where it stands."""

    owner: str
    records: tuple[Caa, ...]

    @property
    def has_issue(self) -> bool:
        return any(each.tag == "issue" for each in self.records)

    def issuers(self, *, wildcard: bool) -> tuple[Caa, ...] | None:
        """The records that say who may issue; None where anybody may."""
        wild = tuple(each for each in self.records if each.tag == "issuewild")
        if wildcard and wild:
            return wild
        return tuple(each for each in self.records if each.tag == "issue") or None

    @property
    def unknown_critical(self) -> Caa | None:
        return next((each for each in self.records if each.is_critical and each.tag not in KNOWN_TAGS), None)


Ask = Callable[[str], Reply | Unseen]
"""What the resolver answers for CAA at a name."""


def climb(name: str, ask: Ask) -> RelevantSet | Unseen | None:
    """The set for a name (RFC 8659 section 3): the first that is not empty, at the name or above it.

    At an alias the answer holds its target's set; where that is empty the climb goes on from the owner's parent.  None:
    no set up the tree, so every CA may issue.  ``*.x.example`` begins at ``x.example``.
    """
    for above in ancestors(name.removeprefix("*.")):
        reply = ask(above)
        if isinstance(reply, Unseen):
            return Unseen(f"CAA of {above}: {reply.reason}")
        if reply.rcode not in {"NOERROR", "NXDOMAIN"}:
            return Unseen(f"CAA of {above}: {reply.rcode}")
        found = final_data(reply, above, "CAA")
        if found:
            return RelevantSet(above, tuple(read_caa(bytes.fromhex(each)) for each in sorted(found)))
    return None


class Verdict(msgspec.Struct, frozen=True):
    """Whether the CA of a certificate may issue for a name again."""

    allowed: bool | None
    """None: it cannot be told."""

    words: str


def may_issue(found: RelevantSet | None, name: str, domains: Sequence[str] | None) -> Verdict:
    """``domains``: those that the CA declares; None where they are not known."""
    if found is None:
        return Verdict(True, "no CAA set: any CA may issue")
    if found.unknown_critical is not None:
        return Verdict(False, f"{found.unknown_critical} at {found.owner} is critical and unknown: nobody may issue")
    issuers = found.issuers(wildcard=name.startswith("*."))
    if issuers is None:
        return Verdict(True, f"the set at {found.owner} has no issue property: any CA may issue")
    named = [each for each in issuers if each.issuer]
    shown = ", ".join(dict.fromkeys(each.issuer for each in named))
    if not named:
        return Verdict(False, f"the set at {found.owner} forbids every CA: {', '.join(map(str, issuers))}")
    if domains is None:
        return Verdict(None, f"the set at {found.owner} allows {shown}; which domain the issuer declares is not known")
    chosen = [each for each in named if each.issuer in domains]
    if not chosen:
        return Verdict(False, f"the set at {found.owner} allows {shown}, not {' or '.join(domains)}")
    conditions = [each.parameters for each in chosen if each.parameters]
    if len(conditions) == len(chosen):
        return Verdict(None, f"the set at {found.owner} allows {chosen[0].issuer} if {conditions[0]}")
    return Verdict(True, f"the set at {found.owner} allows {chosen[0].issuer}")
