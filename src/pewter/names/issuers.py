"""Which domains a CA declares for CAA: a table that ships with Pewter, with the source and date of each row."""

import datetime
import functools
import importlib.resources
import tomllib

import msgspec


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
    file = importlib.resources.files(__package__).joinpath("issuers.toml")
    return msgspec.convert(tomllib.loads(file.read_text(encoding="utf-8"))["issuer"], tuple[Issuer, ...])


def domains_of(organization: str) -> tuple[str, ...] | None:
    """The domains of the CA with this organization; None: not known."""
    return next((each.domains for each in known_issuers() if organization in each.organization), None)
