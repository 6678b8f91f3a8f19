"""Which answers are redirects, and where they lead (RFC 9110 section 15.4)."""

from .urls import InvalidUrl, Url, read_location

FOLLOWED = frozenset({301, 302, 303, 307, 308})
"""300 only offers choices and 304 is none; 305 and 306 are unused."""

PERMANENT = frozenset({301, 308})


class NoRedirect:
    """The answer is shown as a page."""


def next_url(status: int, locations: tuple[str, ...], base: Url) -> Url | type[NoRedirect]:
    """Where a browser goes next.

    ``locations`` holds the values of every Location field line.  A redirect status without Location, or
    with an empty one, is shown as a page.  Raises InvalidUrl where it cannot be followed: a value that
    is no http or https URL, or two different values.
    """
    if status not in FOLLOWED or not locations or not locations[0].strip():
        return NoRedirect
    if len(set(locations)) > 1:
        raise InvalidUrl(f"{len(locations)} Location fields that differ")
    return read_location(locations[0], base)
