"""Targets, paths, levels and days, as a user types them."""

import datetime

import msgspec

from pewter.errors import UsageError
from pewter.gather.routes import read_origin, read_resolver
from pewter.levels import Level
from pewter.places import socket_text
from pewter.web.urls import InvalidUrl, Url, read_host, read_url


class TypedTarget(msgspec.Struct, frozen=True):
    """What was typed as one."""

    host: str
    port: int
    path: str | None


def read_target(text: str) -> TypedTarget:
    """A host name, ``NAME:PORT`` or URL; UsageError says what is wrong."""
    try:
        if "://" in text:
            url = read_url(text)
            read_host(url.host)
            port = url.port if url.is_https else 443
            return TypedTarget(url.host, port, None if url.target == "/" else f"{url.host}{url.target}")
        try:
            return TypedTarget(read_host(text.strip("[]")), 443, None)  # IPv6 addresses have colons of their own
        except InvalidUrl:
            url = read_url(f"https://{text}")
            read_host(url.host)  # stricter than a browser with a link: what is typed has to be a name
            return TypedTarget(url.host, url.port, None if url.target == "/" else f"{url.host}{url.target}")
    except InvalidUrl as exc:
        raise UsageError(f"{text!r} is no target: {exc}. Write a host name or a URL, as in www.x.example.") from exc


def read_canonical(text: str) -> Url:
    try:
        url = read_url(text if "://" in text else f"https://{text}")
    except InvalidUrl as exc:
        raise UsageError(f"canonical {text!r}: {exc}. Write it as https://www.x.example.") from exc
    if not url.is_https or url.target != "/":
        raise UsageError(f"canonical {text!r} has to be an https address without a path, as in https://www.x.example.")
    return url


def read_path(text: str) -> str:
    """``/x?y``, or a name before it for that name alone."""
    owner, slash, rest = text.partition("/")
    if not slash:
        raise UsageError(
            f"--path {text!r} has no '/'. Write /login for every name, or tickets.x.example/login for one."
        )
    try:
        url = read_url(f"https://{owner or 'any.example'}/{rest}")
    except InvalidUrl as exc:
        raise UsageError(f"--path {text!r}: {exc}.") from exc
    return (url.host if owner else "") + url.target


def read_level(text: str) -> Level:
    try:
        return Level(text)
    except ValueError:
        allowed = ", ".join(level.value for level in Level)
        raise UsageError(f"--fail-on {text!r} is no level; allowed: {allowed}.") from None


def read_as_of(text: str | None) -> datetime.datetime | None:
    """A day (its first moment in UTC) or a time with its zone."""
    if text is None:
        return None
    try:
        moment = datetime.datetime.fromisoformat(text)
    except ValueError:
        raise UsageError(f"--as-of {text!r} is no date; write it as 2027-03-01 or 2027-03-01T12:00+00:00.") from None
    return moment if moment.tzinfo is not None else moment.replace(tzinfo=datetime.UTC)


def origin_text(given: str, first: str) -> str:
    """``NAME=ADDRESS[:PORT]``, with the first target's name where none was given.  Raises UsageError."""
    name, address, port = read_origin(given, first)
    return f"{name}={socket_text(address, port) if port else address}"


def resolver_text(given: str) -> str:
    """The resolver that was given, with its port.  Raises UsageError."""
    return socket_text(*read_resolver(given))
