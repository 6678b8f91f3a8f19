"""The kinds of servers, and what is known of each: a file of templates in ``kinds``."""

import enum
import functools

import msgspec

from pewter.data import toml_beside


class Kind(enum.Enum):
    """What answers, as ``--server`` and ``pewter.toml`` name it."""

    NGINX = "nginx"
    APACHE = "apache"
    HAPROXY = "haproxy"
    CADDY = "caddy"
    LIGHTTPD = "lighttpd"
    TRAEFIK = "traefik"
    ENVOY = "envoy"
    IIS = "iis"
    LITESPEED = "litespeed"
    APACHE_DIRECTORY = "apache-directory"
    DJANGO = "django"
    RAILS = "rails"
    EXPRESS = "express"
    LARAVEL = "laravel"
    PHP = "php"
    SPRING = "spring"
    SITE_ADDRESS = "site-address"
    PANEL = "panel"
    EDGE = "edge"


class Manner(enum.Enum):
    """How lines are put in place."""

    ADDS = "adds"
    REPLACES = "replaces"
    FIRST = "first"
    """Before all lines of their kind there."""

    LAST = "last"
    """Behind all lines of their kind there."""

    NEW = "new"
    """A block of its own, beside others."""

    BEFORE = "before"
    REMOVES = "removes"
    COMMAND = "command"
    WORDS = "words"


class Template(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """One piece; ``@host@`` and the like stand for the place at hand (:mod:`pewter.mends.composer`)."""

    manner: Manner
    place: str = ""
    of: str = ""
    """What is taken out, or replaced."""

    lines: str = ""
    note: str = ""
    when: tuple[str, ...] = ()
    only: str = ""
    """Of two such pieces the one that fits what stands there: ``it has no add_header``."""

    each: str = ""
    """``cookie``: once for each of them."""

    per_host: str = ""
    """In place of ``@per_host@``: once for each host of the entry."""

    per_name: str = ""
    """In place of ``@per_name@``: once for each name of the site."""


class KindFile(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """All that is known of one kind."""

    title: str
    rules: dict[str, tuple[Template, ...]]
    reload: str = ""
    """Checks the configuration, and has the server read it."""

    places: dict[str, str] = {}
    flags: dict[str, str] = {}
    """Of a cookie, by the rule that finds one missing: one line holds them all."""

    same: dict[str, str] = {}
    """Rules with the templates of another."""

    not_here: dict[str, str] = {}
    """Why there are no lines for a rule."""

    def templates(self, rule: str) -> tuple[Template, ...]:
        return self.rules.get(self.same.get(rule, rule), ())


@functools.cache
def kind_file(kind: Kind) -> KindFile:
    return msgspec.convert(toml_beside(__file__, "kinds", f"{kind.value}.toml"), KindFile)
