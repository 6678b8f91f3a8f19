"""How far a change of a zone has come: servers that are behind, and copies that resolvers keep."""

import pytest

from pewter.facts.case import Case
from pewter.judge.spreading import spreading
from support.cases import case, name
from support.certificates import NOW
from support.dns import SOA, WWW, ZONE, changed

OLD = {f"r {WWW} A": f"NOERROR ra; {WWW} A 300 5.5.5.9", f"12 {WWW} A": f"NOERROR aa; {WWW} A 300 5.5.5.9"}
NONE_YET = {f"r {WWW} A": f"NXDOMAIN ra; !{SOA}", f"12 {WWW} A": f"NXDOMAIN aa; !{SOA}"}
BEHIND = {
    f"2 {ZONE} SOA": f"NOERROR aa; {SOA.replace(' 7 7200', ' 6 7200')}",
    f"2 {WWW} A": f"NOERROR aa; {WWW} A 300 5.5.5.9",
}
SERVER = f"1 of 2 name servers of {ZONE} have the newest zone; ns2.{ZONE} (192.0.2.54) still behind"


def copies(until):
    return f"copies at the resolver 192.0.2.250 end by 2026-11-23 {until} UTC"


@pytest.mark.parametrize(
    ("now", "earlier", "words"),
    [
        pytest.param({}, None, (), id="all-agree"),
        pytest.param({}, OLD, (), id="all-is-new"),
        pytest.param({f"r {WWW} A": f"NOERROR ra; {WWW} A 120 5.5.5.9"}, OLD, (copies("12:02:00"),), id="an-old-copy"),
        pytest.param({f"r {WWW} A": f"NXDOMAIN ra; !{SOA}"}, NONE_YET, (copies("12:01:00"),), id="an-old-no"),
        pytest.param({f"r {WWW} A": f"NOERROR ra; {WWW} A 120 9.9.9.9"}, OLD, (), id="another-answer-is-no-copy"),
        pytest.param({f"r {WWW} A": f"NOERROR ra; {WWW} A 120 5.5.5.9"}, None, (), id="nothing-is-known-of-before"),
        pytest.param(BEHIND, OLD, (SERVER,), id="a-server-is-behind"),
        pytest.param(
            {**BEHIND, f"r {WWW} A": f"NOERROR ra; {WWW} A 90 5.5.5.9"}, None, (SERVER, copies("12:01:30")), id="both"
        ),
    ],
)
def test_spreading(now, earlier, words):
    made = case(names=[name(WWW)], dns=changed(now))
    before = changed(earlier) if earlier is not None else None
    assert spreading(Case(made.evidence, made.terms, NOW, made.own_stores, earlier=before)) == words
