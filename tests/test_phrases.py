"""How long something lasts still, or is over, in words."""

from datetime import timedelta

import pytest

from pewter.phrases import until


@pytest.mark.parametrize(
    ("left", "words"),
    [
        (timedelta(days=9, hours=23), "9 days"),
        (timedelta(days=1), "1 day"),
        (timedelta(hours=23), "23 hours"),
        (timedelta(seconds=0), "1 minute"),
        (timedelta(seconds=-1), "1 minute ago"),
        (timedelta(minutes=-90), "1 hour ago"),
        (timedelta(days=-1, hours=-12), "1 day ago"),
        (timedelta(days=-5, hours=-12), "5 days ago"),
    ],
)
def test_until(left, words):
    assert until(left) == words
