"""Strict-Transport-Security as user agents read it (RFC 6797)."""

import re

import msgspec

from .fields import IgnoredField

# RFC 9110 section 5.6.  Possessive "*+": with plain "*" a field of 20,000 spaces took 8.8 s to refuse.
_TOKEN = r"[!#$%&'*+.^_`|~0-9A-Za-z-]++"
_QUOTED = r'"(?:[^"\\]|\\.)*+"'
_DIRECTIVE = re.compile(
    rf"[ \t]*+(?:(?P<name>{_TOKEN})[ \t]*+(?:=[ \t]*+(?P<value>{_TOKEN}|{_QUOTED}))?)?[ \t]*+(?:;|\Z)"
)
# \d would take U+0663 too.  Chromium counts a number of 40 digits as a very long time, so no upper bound
# on digits; int() stays cheap because a field line is bounded.
_DELTA_SECONDS = re.compile(r"[0-9]{1,4000}")


class StrictTransportSecurity(msgspec.Struct, frozen=True):
    """One STS field that user agents obey (RFC 6797 section 6.1)."""

    max_age: int
    """Seconds; 0 makes a user agent forget the host (section 6.1.1)."""

    include_subdomains: bool = False
    """The policy reaches every subdomain too (section 6.1.2)."""

    unrecognised: tuple[str, ...] = ()
    """Other directive names, lower case, in field order: ``("preload",)``."""


def read_sts(value: str) -> StrictTransportSecurity | IgnoredField:
    """Read one field value: ``max-age=31536000; includeSubDomains``.

    Directive order and letter case do not matter.  The result is IgnoredField wherever
    RFC 6797 section 6.1 has user agents drop the field: syntax that does not conform,
    a directive given twice, no max-age.  Never raises, whatever the peer sent.
    """
    directives: dict[str, str | None] = {}
    position = 0
    while position < len(value):
        match = _DIRECTIVE.match(value, position)
        if match is None:
            return IgnoredField(f"{value[position : position + 40].strip()!r} is no directive")
        position = match.end()
        if match["name"] is None:
            continue  # "; ;" conforms: the grammar makes each directive optional
        name = match["name"].lower()
        if name in directives:
            return IgnoredField(f"directive {name} is given twice")
        directives[name] = match["value"]

    if directives.get("includesubdomains") is not None:
        # Section 6.1.2 makes it valueless, and browsers drop the field that gives it a value.
        return IgnoredField("includeSubDomains is given a value")
    if directives.get("max-age") is None:
        return IgnoredField("it has no max-age" if "max-age" not in directives else "max-age has no value")
    max_age = (directives.get("max-age") or "").strip('"')
    if not _DELTA_SECONDS.fullmatch(max_age):
        return IgnoredField(f"max-age is {max_age[:40]!r}, not a count of seconds")
    unrecognised = tuple(name for name in directives if name not in {"max-age", "includesubdomains"})
    return StrictTransportSecurity(int(max_age), "includesubdomains" in directives, unrecognised)
