"""What a cookie looks like, by its name: a session, a CSRF token, load balancing, analytics."""

import enum
import re

import msgspec


class CookieKind(enum.Enum):
    """What a cookie seems to be for."""

    SESSION = "session or login"
    CSRF = "CSRF token"
    LOAD_BALANCER = "load balancer"
    ANALYTICS = "analytics"
    OTHER = "no special purpose"


class Guess(msgspec.Struct, frozen=True):
    """A kind, and the sign by which it was told."""

    kind: CookieKind
    sign: str


# In this order: a CSRF token's name often holds the word session too.
_SIGNS: tuple[tuple[CookieKind, str, str], ...] = (
    (CookieKind.ANALYTICS, r"_ga(_.*)?|_gid|_gat.*|_gcl_.*|__utm.|_fbp|_pk_(id|ses).*|_hj.*|ajs_.*", "analytics"),
    (CookieKind.CSRF, r".*(csrf|xsrf|requestverificationtoken|authenticity_token).*", "the name of a CSRF token"),
    (
        CookieKind.LOAD_BALANCER,
        r"awsalb.*|awselb.*|bigipserver.*|serverid|srv|arraffinity.*|routeid|lb|stickounet|ingresscookie|incap_ses.*",
        "a load balancer's name",
    ),
    (
        CookieKind.SESSION,
        r"phpsessid|jsessionid|asp\.net_sessionid|\.aspxauth|\.aspnetcore\..*|connect\.sid|laravel_session|ci_session"
        r"|wordpress_logged_in.*|wordpress_sec.*|s?sess[0-9a-f]{32}|cfid|cftoken|sid",
        "a session name of a well-known framework",
    ),
    (
        CookieKind.SESSION,
        r".*(sess(ion)?([^a-z]|id|$)|sessid|login|logged|auth([^o]|$)|oauth|token|jwt|remember|sso|identity|account).*",
        "a word for sessions or logins in its name",
    ),
)  # fmt: skip
_COMPILED = tuple((kind, re.compile(pattern), sign) for kind, pattern, sign in _SIGNS)


def guess_kind(name: str) -> Guess:
    """The kind by the first sign that fits the whole name, prefix and letter case aside."""
    bare = re.sub(r"^__(host|secure)-", "", name.lower())[:200]
    for kind, pattern, sign in _COMPILED:
        if pattern.fullmatch(bare):
            return Guess(kind, sign)
    return Guess(CookieKind.OTHER, "")
