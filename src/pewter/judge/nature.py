"""What a rule says of itself beside its words: what waits for its gaps, who mends them, what they speak of.

Every rule has to answer: what is safe to do first, whose lines are printed and what may be called closed go by it.
"""

import enum

import msgspec


class Safety(enum.Enum):
    """What a gap says of when its host, or visitors, may be led on: https before redirects, redirects before HSTS."""

    FREE = "free"
    """Nothing waits for it, and it waits for nothing."""

    SHUT = "shut"
    """Https does not open: nobody may be led to it, nor held there."""

    SHUT_WHERE_IT_BREAKS = "shut where it breaks"
    """It opens only behind a warning, where the gap is at the level breaks."""

    LEADS = "leads"
    """Visitors do not come to https by themselves; its lines lead them there."""

    LEADS_BACK = "leads back"
    """Https leads to http: who is led there before it is mended goes round in a circle."""

    CIRCLES = "circles"
    """Visitors arrive nowhere, and so not at https."""

    REDIRECTS = "redirects"
    """Of another redirect, for which nothing has to wait."""

    HOLDS = "holds"
    """Its lines hold browsers to https (HSTS)."""

    HOLDS_BELOW = "holds below"
    """Likewise, and for every host below (includeSubDomains)."""

    HOLDS_FOR_LONG = "holds for long"
    """Likewise, and for as long as is wished: the policy was tried before."""

    @property
    def redirects(self) -> bool:
        """Who answers on port 80 decides, unless the gap is at a URL of https."""
        return self in _REDIRECTS

    @property
    def comes_before_hsts(self) -> bool:
        return self in _REDIRECTS and self is not Safety.REDIRECTS


_REDIRECTS = frozenset({Safety.LEADS, Safety.LEADS_BACK, Safety.CIRCLES, Safety.REDIRECTS})


class MendedBy(enum.Enum):
    """Whose configuration mends it."""

    SERVER = "server"
    EITHER = "either"
    """The application or the server before it: one of the two is enough."""

    BOTH = "both"
    """The application has to learn from the server before it that visitors come by https."""


class Matter(enum.Enum):
    """What a gap speaks of, where that is more than what was seen at its place."""

    PLACE = "place"
    OWN_ADDRESS = "own address"
    """What an application gets wrong that takes its own address to be http."""

    NAMES = "names"
    """What the name service says, whatever is served where it leads."""

    SPREADING = "spreading"
    """Likewise: a change of a zone that is under way."""

    @property
    def is_of_names(self) -> bool:
        return self in {Matter.NAMES, Matter.SPREADING}


class Judges(enum.Enum):
    """What it is judged of."""

    SITE = "site"
    FILES = "files"
    BOTH = "both"


class GoesBy(enum.Enum):
    """What a rule looks at beside what all rules of its area do; it is closed only where that was seen again too."""

    UNKNOWN_HOST = "unknown host"
    PAGES = "pages"
    ORIGIN = "origin"
    STATUS = "status"
    """What CAs say of certificates."""

    SERVED = "served"
    """Of a rule on names: certificates and answers."""

    ALL_NAMES = "all names"
    """What is found at one name is judged by which other names the site has."""


class Nature(msgspec.Struct, frozen=True, kw_only=True):
    """The answers of one rule."""

    safety: Safety
    mended_by: MendedBy
    matter: Matter
    judges: Judges
    goes_by: frozenset[GoesBy]

    def but(self, **answers: object) -> "Nature":
        """With other answers to some of the questions."""
        return msgspec.structs.replace(self, **answers)


OF_PLACES = Nature(
    safety=Safety.FREE,
    mended_by=MendedBy.SERVER,
    matter=Matter.PLACE,
    judges=Judges.SITE,
    goes_by=frozenset(),
)
"""A gap of its own at its place, for which nothing waits."""

OF_NAMES = OF_PLACES.but(matter=Matter.NAMES)
OF_REDIRECTS = OF_PLACES.but(safety=Safety.REDIRECTS)
OF_SERVED_CERTIFICATES = OF_PLACES.but(safety=Safety.SHUT_WHERE_IT_BREAKS)
OF_CERTIFICATES = OF_SERVED_CERTIFICATES.but(judges=Judges.BOTH)
"""In files as well."""

OF_HSTS = OF_PLACES.but(safety=Safety.HOLDS)
OF_COOKIES = OF_PLACES.but(mended_by=MendedBy.EITHER)
OF_FILES = OF_PLACES.but(judges=Judges.FILES)
