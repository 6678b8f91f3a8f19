"""Mixed content: what a browser does with a plain URL in an https page (W3C Mixed Content level 2)."""

import enum

from pewter.evidence import Reference, Use, is_ip_address, is_this_machine

from .urls import InvalidUrl, read_url


class Treatment(enum.Enum):
    """What becomes of one reference."""

    BLOCKED = "blocked"
    UPGRADED = "upgraded"
    """Asked for over https; where that fails it is missing."""

    WARNED = "shown unencrypted"
    """By an IP address: asked for over http, with a warning, in Chromium; Firefox upgrades it."""

    FINE = "fine"
    """Not fetched with the page, a local address, or rewritten by upgrade-insecure-requests."""


UPGRADABLE = frozenset({Use.IMAGE, Use.AUDIO_VIDEO})
NOT_FETCHED = frozenset({Use.FORM, Use.LINK})


def treatment_of(reference: Reference, *, upgrades_requests: bool) -> Treatment:
    """Whether a browser blocks or upgrades what a page on https refers to."""
    upgrades = upgrades_requests and not reference.is_early
    if reference.use in NOT_FETCHED or upgrades or _is_local(reference.url):
        return Treatment.FINE
    if reference.use not in UPGRADABLE:
        return Treatment.BLOCKED
    return Treatment.WARNED if is_ip_address(_host(reference.url)) else Treatment.UPGRADED


def _host(text: str) -> str:
    try:
        return read_url(text.replace("ws:", "http:", 1)).host
    except InvalidUrl:
        return ""


def _is_local(text: str) -> bool:
    """Potentially trustworthy all the same (W3C Secure Contexts section 3.1)."""
    host = _host(text)
    if is_ip_address(host):
        return host.startswith("127.") or host == "::1"
    return is_this_machine(host)
