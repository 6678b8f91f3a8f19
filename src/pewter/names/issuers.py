"""Which domains a CA declares for CAA: a table that ships with Pewter, with the source and date of each row."""

import datetime
import functools

import msgspec

from pewter.data import toml_beside


class Issuer(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """One CA."""

    organization: tuple[str, ...]
    """As it stands in the subject of its issuing certificates."""

    domains: tuple[str, ...]
    source: str
    date: datetime.date
    """When the source was read."""


@functools.cache
def known_issuers() -> tuple[Issuer, ...]:
    return msgspec.convert(toml_beside(__file__, "issuers.toml")["issuer"], tuple[Issuer, ...])


def domains_of(organization: str) -> tuple[str, ...] | None:
    """The domains of the CA with this organization; None: not known."""
    return next((each.domains for each in known_issuers() if organization in each.organization), None)
