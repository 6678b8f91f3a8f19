"""Hostile chains and odd certificates: bounded work, and an outcome for every octet string."""

import datetime
import time
from pathlib import Path

import cryptography_vectors
import pytest
from cryptography import x509
from hypothesis import given, settings
from hypothesis import strategies as st

from pewter.lab.authority import DAY, SignedWith, issue_ca, issue_server
from pewter.pki import (
    Certificate,
    FaultKind,
    MalformedCertificate,
    Store,
    assess_chain,
    form_faults,
    life_of,
    read_certificate,
    read_store,
)
from pewter.pki.files import FileForm, read_file
from pewter.pki.keys import read_key_facts
from support.certificates import FAR_OFF, HOST, LONG_AGO, NOW, intermediate, key, leaf, parsed, root, store

VECTORS = Path(cryptography_vectors.__file__).parent / "x509"


def same_named(count: int) -> list[Certificate]:
    """CAs of one name, each with its own serial; all but one sign with a stranger's key, so none verifies."""
    stranger = SignedWith(key=key("stranger"))
    keys = [key(f"impostor {n}") for n in range(8)]
    return [
        parsed(issue_ca("Intermediate", root(), LONG_AGO, FAR_OFF, key=keys[n % 8], signed_with=stranger))
        for n in range(count)
    ]


def test_a_pool_of_2000_same_named_issuers_takes_no_more_than_two_seconds():
    bundled = read_store("bundled", Path(__import__("certifi").where()).read_bytes())
    octets = [each.der for each in same_named(2000)]
    times = []
    for _ in range(3):  # the best of three, of the processor: other work on the machine is no part of it
        begun = time.thread_time()
        pool = [each for each in map(read_certificate, octets) if isinstance(each, Certificate)]
        read = time.thread_time()
        found = assess_chain([parsed(leaf()), *pool], [], [bundled], NOW)
        times.append((time.thread_time() - begun, time.thread_time() - read))
        assert not found.alone.is_valid
    took, judging = min(times)
    print(f"hostile pool of {len(pool)}: {took:.3f} s, of which {judging:.3f} s for judging, the rest for reading them")
    assert took < 2


def test_the_true_issuer_is_found_among_2000_of_its_name():
    pool = [*same_named(1999), parsed(intermediate())]
    found = assess_chain([parsed(leaf()), *pool], [], [store(root())], NOW)
    assert found.alone.is_valid


def test_a_chain_of_four_is_judged_in_milliseconds():
    upper = issue_ca("Upper", root(), LONG_AGO, FAR_OFF, key=key("Upper"))
    lower = issue_ca("Lower", upper, LONG_AGO, FAR_OFF, key=key("Lower"))
    end = issue_server([HOST], lower, LONG_AGO, FAR_OFF, key=key("leaf"))
    bundled = read_store("bundled", Path(__import__("certifi").where()).read_bytes())
    octets = [each.der for each in (end, lower, upper, root())]
    begun = time.thread_time()
    sent = [each for each in map(read_certificate, octets) if isinstance(each, Certificate)]
    found = assess_chain(sent, [], [bundled, store(root())], NOW)
    took = time.thread_time() - begun
    print(f"chain of 4 against {len(bundled.anchors)} bundled roots: {took * 1000:.2f} ms")
    assert found.alone.is_valid
    assert took < 0.2


def test_circles_of_cross_certificates_end():
    a, b = issue_ca("A", None, LONG_AGO, FAR_OFF, key=key("A")), issue_ca("B", None, LONG_AGO, FAR_OFF, key=key("B"))
    circle = [parsed(issue_ca(x, y, LONG_AGO, FAR_OFF, key=key(x))) for x, y in (("A", b), ("B", a)) for _ in range(12)]
    found = assess_chain([parsed(issue_server([HOST], a, LONG_AGO, FAR_OFF)), *circle], [], [store(root())], NOW)
    assert not found.alone.is_valid


def test_names_times_constraints_are_bounded():
    names = [f"n{n}.marram-ferries.example" for n in range(2000)]
    bases = [x509.DNSName(f"b{n}.example") for n in range(2000)]
    ca = issue_ca("Wide", root(), LONG_AGO, FAR_OFF, key=key("Wide"), extra=[(x509.NameConstraints(None, bases), True)])
    end = issue_server(names, ca, LONG_AGO, FAR_OFF, key=key("leaf"))
    begun = time.thread_time()
    found = assess_chain([parsed(end), parsed(ca)], [], [store(root())], NOW)
    assert time.thread_time() - begun < 1
    (fault,) = found.alone.faults
    assert (fault.kind, fault.detail) == (
        FaultKind.WORK_LIMIT,
        "the name constraints of Wide were not held against n0.marram-ferries.example: 2,000 names against 2,000 constraints",
    )


def everything(octets: bytes) -> None:
    """All that a review does with one certificate."""
    read = read_certificate(octets)
    if isinstance(read, MalformedCertificate):
        assert read.reason
        return
    str(read.key), read.title, str(read.subject), form_faults(read)
    life = life_of(read)
    life.passed(NOW), life.days_left(NOW), life.point(2 / 3)
    assess_chain([read], [read], [store(root())], NOW)


@pytest.mark.parametrize(
    "file",
    sorted([*VECTORS.rglob("*.pem"), *VECTORS.rglob("*.der"), *VECTORS.rglob("*.crt")]),
    ids=lambda path: path.name,
)
def test_every_published_certificate_gives_an_outcome(file):
    """Those that the cryptography package refuses to read among them."""
    for item in read_file(file.name, file.read_bytes()).items:
        if isinstance(item.certificate, MalformedCertificate):
            assert item.problem
        elif item.certificate is not None:
            everything(item.certificate.der)


DAMAGED = [leaf().der, intermediate().der, root().der, (VECTORS / "cryptography.io.pem").read_bytes()]


@settings(max_examples=400, deadline=None)
@given(
    st.sampled_from(DAMAGED),
    st.lists(st.tuples(st.integers(0, 4000), st.integers(0, 255)), min_size=1, max_size=8),
    st.integers(0, 40),
)
def test_damaged_certificates(base, changes, cut):
    octets = bytearray(base)
    for position, value in changes:
        octets[position % len(octets)] = value
    damaged = bytes(octets[: len(octets) - cut])
    everything(damaged)
    read_file("x", damaged)


@given(st.binary(max_size=400))
def test_any_octets(octets):
    everything(octets)
    read_file("x", octets)
    read_key_facts(octets)


@given(st.text(alphabet="-BEGIN CERTIFICATEKY\n\\n=MIa\u2014", max_size=300))
def test_any_text(text):
    contents = read_file("x", text.encode())
    assert contents.items or contents.problems or contents.form is FileForm.PEM


@pytest.mark.parametrize(
    ("start", "end"),
    [
        pytest.param(NOW, NOW, id="one-second"),
        pytest.param(datetime.datetime(1950, 1, 1, tzinfo=datetime.UTC), datetime.datetime(9999, 12, 31, 23, 59, 59, tzinfo=datetime.UTC), id="without-an-end"),
        pytest.param(NOW - DAY, NOW - DAY, id="over"),
    ],
)  # fmt: skip
def test_odd_lives(start, end):
    everything(issue_server([HOST], intermediate(), start, end, key=key("leaf")).der)


def test_2000_names_and_a_year_beyond_9999():
    everything(
        issue_server([f"n{n}.example" for n in range(2000)], intermediate(), LONG_AGO, FAR_OFF, key=key("leaf")).der
    )
    octets = issue_server(
        [HOST], intermediate(), LONG_AGO, datetime.datetime(2060, 1, 1, tzinfo=datetime.UTC), key=key("leaf")
    ).der
    broken = read_certificate(octets.replace(b"20600101000000Z", b"20601301000000Z"))
    assert isinstance(broken, MalformedCertificate)
    assert "no such time" in broken.reason


def test_stores_of_rubbish_are_empty():
    assert read_store("x", b"\x00" * 99).anchors == ()
    assert Store("x", ()).by_subject == {}
