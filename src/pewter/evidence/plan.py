"""What to look at: settled from options and site file, and kept with what was seen."""

import enum

import msgspec


class Step(enum.Enum):
    """A part of a look that asks one kind of question."""

    SIBLINGS = "siblings"
    """The apex or www of each name."""

    WAYS_IN = "ways in"
    ABSENT = "absent"
    """A page that nobody has."""

    FOUND = "found"
    """What the home page links to, and the site's map."""

    STYLE_SHEETS = "style sheets"
    HOSTS = "hosts"
    """A Host that cannot be the site's."""

    CERTIFICATES = "certificates"
    """One hello to each name at each address."""

    VERSIONS = "versions"
    """The other first hellos, and staples that come late."""

    PROTOCOLS = "protocols"
    """Suites, groups and options of each front end."""

    ISSUERS = "issuers"
    COVERED_NAMES = "covered names"
    REVOCATION = "revocation"
    ORIGINS = "origins"
    """The servers behind an edge service, where they were given."""

    DNS = "dns"
    """What the name service and the servers of the site's zones say."""


EVERY_STEP = tuple(Step)


class Target(msgspec.Struct, frozen=True, omit_defaults=True):
    """One name to look at."""

    host: str
    """A host name in A-labels, or an IP address without brackets."""

    port: int = 443
    """Of its https."""


class Plan(msgspec.Struct, frozen=True, omit_defaults=True):
    """Texts and numbers only, so that it can be saved, asked again and sent to another process."""

    targets: tuple[Target, ...]
    """The first decides the site."""

    paths: tuple[str, ...] = ("/",)
    """``/account/login`` for every name, ``tickets.marram-ferries.example/basket`` for one."""

    routes: tuple[str, ...] = ()
    """``www.x.example:443=127.0.0.1:18443``."""

    resolvers: tuple[str, ...] = ()
    """``192.0.2.53:53``; the first decides.  None given: the machine's own."""

    origins: tuple[str, ...] = ()
    """Servers behind an edge service: ``www.x.example=198.51.100.7:8443``."""

    only: tuple[str, ...] = ()
    """The areas and rules that are to be judged; none for all."""

    skip: tuple[str, ...] = ()
    """Those that are not to be judged."""

    steps: tuple[Step, ...] = EVERY_STEP
    """What is asked: what the areas and rules need."""

    revocation: bool = False
    """Ask the CAs of the served certificates too."""

    names_are_listed: bool = False
    """They come from a list that others may have written: they are contacted at public addresses alone."""

    site_file: str = ""
    """The name of the file that describes the site; empty where there is none."""

    site_lines: dict[str, int] = {}
    """The line of it, from 1, that names each host first."""

    connections_per_address: int = 8
    whole_seconds: float = 60.0
    step_seconds: float = 10.0

    @property
    def first(self) -> str:
        """The host that decides the site; a documentation name where there is none."""
        return self.targets[0].host if self.targets else "www.x.example"
