import time

import pytest
from hypothesis import given
from hypothesis import strategies as st

from pewter.web.fields import IgnoredField
from pewter.web.hsts import StrictTransportSecurity, read_sts

STS = StrictTransportSecurity


@pytest.mark.parametrize(
    ("value", "expected"),
    [
        # RFC 6797 section 6.2
        pytest.param("max-age=31536000", STS(31536000), id="example-1"),
        pytest.param("max-age=15768000 ; includeSubDomains", STS(15768000, True), id="example-2"),
        pytest.param('max-age="31536000"', STS(31536000), id="example-3-quoted"),
        pytest.param("max-age=0", STS(0), id="example-4"),
        pytest.param("max-age=0; includeSubDomains", STS(0, True), id="example-5"),
        pytest.param("MAX-AGE=1;INCLUDESUBDOMAINS", STS(1, True), id="letter-case"),
        pytest.param("includeSubDomains; max-age=1", STS(1, True), id="any-order"),
        pytest.param("; max-age=1 ; ;", STS(1), id="empty-directives"),
        pytest.param("max-age=1; preload; x=y", STS(1, False, ("preload", "x")), id="unrecognised"),
        pytest.param("max-age=" + "9" * 40, STS(int("9" * 40)), id="forty-digits"),
        pytest.param("", IgnoredField("it has no max-age"), id="empty"),
        pytest.param("includeSubDomains", IgnoredField("it has no max-age"), id="no-max-age"),
        pytest.param("max-age", IgnoredField("max-age has no value"), id="valueless"),
        pytest.param("max-age=1, max-age=2", IgnoredField("'max-age=1, max-age=2' is no directive"), id="comma"),
        pytest.param("max-age=1; max-age=1", IgnoredField("directive max-age is given twice"), id="twice"),
        pytest.param("max-age=1; x; X", IgnoredField("directive x is given twice"), id="unknown-twice"),
        pytest.param("max-age=-1", IgnoredField("max-age is '-1', not a count of seconds"), id="negative"),
        pytest.param("max-age=1.5", IgnoredField("max-age is '1.5', not a count of seconds"), id="fraction"),
        pytest.param("max-age=\u0663", IgnoredField("'max-age=\u0663' is no directive"), id="other-digits"),
        pytest.param("max-age=1; includeSubDomains=true", IgnoredField("includeSubDomains is given a value"), id="valued"),
    ],
)  # fmt: skip
def test_read_sts(value, expected):
    assert read_sts(value) == expected


@given(st.text(max_size=300))
def test_hostile_values_never_raise(value):
    read_sts(value)


@pytest.mark.parametrize("value", [" " * 20_000 + "=", "max-age=" + '"\\' * 10_000, "a;" * 20_000])
def test_hostile_values_are_refused_at_once(value):
    begun = time.thread_time()
    read_sts(value)
    assert time.thread_time() - begun < 0.5
