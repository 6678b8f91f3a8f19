"""The words of a rule, filled in for the place at hand."""

import msgspec

from pewter.web.urls import in_url, read_url

from .mending import HasHosts
from .outcomes import Gap
from .rule import Rule


class Filled(msgspec.Struct, frozen=True):
    """What is said of one gap beside what was seen."""

    why: str
    mend: str
    check: str
    """How to see that it is mended."""


def words_for(case: HasHosts, rule: Rule[object], gap: Gap) -> Filled:
    """The rule's words for one gap."""
    words = rule.words
    host = gap.host or gap.where.host
    return Filled(
        why=_fill(words.why, case, host),
        mend=_fill(gap.mend or words.mend, case, host),
        check=_fill(words.check, case, host),
    )


def _fill(text: str, case: HasHosts, host: str) -> str:
    """``{host}`` is the place, ``{landing}`` the host on which its visitors should land.

    Thousands of outcomes share one text.
    """
    return case.once(f"{host}: {text}", lambda: _filled(text, case, host))


def _filled(text: str, case: HasHosts, host: str) -> str:
    landing = case.expected_hosts(host)[0]
    canonical = read_url(case.canonical).host
    for placeholder, name in (("{host}", host), ("{landing}", landing), ("{canonical}", canonical)):
        text = text.replace(f"//{placeholder}", f"//{in_url(name)}").replace(placeholder, name)
    return text.strip()
