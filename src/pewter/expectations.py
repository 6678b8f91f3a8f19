"""What a site should be: Pewter's baseline, which a site's own file overrides."""

import datetime
import re

import msgspec

from pewter.phrases import plural, whole

_DURATION = re.compile(r"([0-9]{1,6}) (second|minute|hour|day)s?")
_UNITS = {
    "second": datetime.timedelta(seconds=1),
    "minute": datetime.timedelta(minutes=1),
    "hour": datetime.timedelta(hours=1),
    "day": datetime.timedelta(days=1),
}


class Expectations(msgspec.Struct, frozen=True, omit_defaults=True, forbid_unknown_fields=True):
    """Every threshold that a rule holds evidence against."""

    minimum_protocol: str = "TLS 1.2"
    hsts_minimum_age: datetime.timedelta = datetime.timedelta(days=180)
    expiring_fraction: float = 0.1
    expiring_days: int = 7
    expiring_fraction_limit: float = 1 / 3
    renewal_point: float = 2 / 3
    renewal_grace: float = 0.1
    maximum_redirects: int = 2
    session_cookie_life: datetime.timedelta = datetime.timedelta(days=30)
    preload_minimum_age: datetime.timedelta = datetime.timedelta(days=365)
    clock_tolerance: datetime.timedelta = datetime.timedelta(minutes=5)
    rsa_minimum_bits: int = 2048
    curve_minimum_bits: int = 224
    finite_field_minimum_bits: int = 2048
    finite_field_broken_bits: int = 1024
    timestamps: int = 2
    timestamps_long: int = 3
    timestamps_long_life: datetime.timedelta = datetime.timedelta(days=180)
    name_servers: tuple[str, ...] = ()
    addresses: dict[str, tuple[str, ...]] = {}
    longest_ttl: datetime.timedelta = datetime.timedelta(days=1)
    longest_alias_chain: int = 4
    name_server_minimum: int = 2
    name_server_seconds: float = 1.0
    signature_margin: datetime.timedelta = datetime.timedelta(hours=6)
    caa_domains: tuple[str, ...] = ()


SOURCES: dict[str, tuple[str, str]] = {
    "minimum_protocol": (
        "the oldest protocol version that may be accepted",
        "RFC 9325 section 3.1.1; RFC 8996",
    ),
    "hsts_minimum_age": (
        "the shortest max-age of Strict-Transport-Security",
        "Pewter's baseline: longer than the pause between two visits; RFC 6797 section 11.2",
    ),
    "expiring_fraction": (
        "the last part of a certificate's life in which it counts as expiring",
        "Pewter's baseline",
    ),
    "expiring_days": (
        "the days before the end in which it counts as expiring, where that is longer",
        "Pewter's baseline",
    ),
    "expiring_fraction_limit": (
        "the part of its life that this may reach at most, for certificates of a few days",
        "Pewter's baseline",
    ),
    "renewal_point": (
        "the part of its life after which a certificate is renewed",
        "the custom of automatic renewal: at two thirds",
    ),
    "renewal_grace": (
        "the further part of its life in which renewal may still come",
        "Pewter's baseline",
    ),
    "maximum_redirects": (
        "how many redirects a way in may take",
        "Pewter's baseline: one to https, one to the canonical host",
    ),
    "session_cookie_life": (
        "how long a cookie that looks like a session or login may last",
        "Pewter's baseline",
    ),
    "preload_minimum_age": (
        "the shortest max-age with which a site can be put on browsers' preload lists",
        "the preload lists' own requirement: 31536000 seconds",
    ),
    "clock_tolerance": (
        "how far the server's Date may be off",
        "Pewter's baseline; RFC 9110 section 6.6.1",
    ),
    "rsa_minimum_bits": (
        "the shortest RSA modulus of a certificate on the path",
        "Baseline Requirements section 6.1.5; RFC 9325 section 4.5",
    ),
    "curve_minimum_bits": (
        "the smallest curve of a certificate on the path",
        "RFC 9325 section 4.5",
    ),
    "finite_field_minimum_bits": (
        "the shortest prime of a finite-field key exchange",
        "RFC 9325 section 4.5; RFC 7919 section 4",
    ),
    "finite_field_broken_bits": (
        "the size below which such a prime counts as broken",
        "Pewter's baseline: 512 bits were broken in practice, 1024 are in reach",
    ),
    "timestamps": (
        "how many logs have to vouch for a publicly trusted certificate",
        "browsers' policies on RFC 6962",
    ),
    "timestamps_long": (
        "the same for a certificate with a longer life than timestamps_long_life",
        "browsers' policies on RFC 6962",
    ),
    "timestamps_long_life": (
        "the life beyond which timestamps_long counts",
        "browsers' policies on RFC 6962",
    ),
    "name_servers": (
        "the names of the servers of the site's zone",
        "the site's own; none: not held against anything",
    ),
    "addresses": (
        'the addresses of names, as { "www.x.example" = ["192.0.2.7"] }',
        "the site's own; none: not held against anything",
    ),
    "longest_ttl": (
        "the longest time that addresses, aliases and name servers may be kept",
        "Pewter's baseline: a change is everywhere after a day",
    ),
    "longest_alias_chain": (
        "how many aliases may lead on to one another",
        "Pewter's baseline: some resolvers stop at 11",
    ),
    "name_server_minimum": (
        "how many servers a zone has at least",
        "RFC 1034 section 4.1; RFC 2182 section 5",
    ),
    "name_server_seconds": (
        "how long the best answer of a name server may take, in seconds",
        "Pewter's baseline",
    ),
    "signature_margin": (
        "what is left of a DNSSEC signature's life at least, beyond the record's TTL",
        "RFC 6781 section 4.4.2",
    ),
    "caa_domains": (
        "the domains that the site's CA declares for CAA",
        "the CA's certification practice statement; none: the table that comes with Pewter",
    ),
}
"""What each expectation is, and where its default comes from."""


class AcceptedGap(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A gap that the owner accepts until a day, with a reason."""

    gap: str
    """The rule's name."""

    where: str
    """A host name, or a place as a report writes it."""

    because: str
    until: datetime.date


class Terms(msgspec.Struct, frozen=True, omit_defaults=True):
    """By what a look is judged."""

    expect: Expectations = Expectations()
    canonical: str | None = None
    """The canonical origin, ``https://www.marram-ferries.example``; None: worked out from the journeys."""

    levels: dict[str, str] = {}
    """Other levels by rule name."""

    accept: tuple[AcceptedGap, ...] = ()
    suppose: tuple[str, ...] = ()
    """``hsts``: judge as if every name sent the recommended Strict-Transport-Security."""

    server: str = ""
    """Whose lines are printed, by the name in :class:`pewter.mends.kinds.Kind`; else the kind that is recognised."""

    servers: dict[str, str] = {}
    """The same by host name."""

    fail_on: str = "exposes"
    """The level from which on a gap is a failure (exit status 1, and in the formats of build servers)."""


def read_duration(text: str) -> datetime.timedelta | None:
    """``365 days`` or ``5 minutes``; None for anything else."""
    match = _DURATION.fullmatch(text)
    return int(match[1]) * _UNITS[match[2]] if match else None


def write_duration(duration: datetime.timedelta) -> str:
    """The inverse of :func:`read_duration`, in the largest unit that fits."""
    seconds = int(duration.total_seconds())
    return whole(seconds, f" {plural(seconds, 'second')}") if seconds else "0 days"
