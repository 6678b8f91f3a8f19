"""What of a URL or a field may be kept: names and shapes, never what may open somebody's account.

Of a recording everything goes through here, of a look of our own the fields: there a URL's query is the site's own,
made for a visitor whom it does not know.
"""

import re

from .cookies import mask_set_cookie
from .urls import Url

MAX_NAME = 40
"""Characters of the name of a query or path parameter; a longer one is rather a value."""

_QUERY_OR_FRAGMENT = re.compile(r"([?#])([^\s\"'<>]*+)")
_PATH_PARAMETERS = re.compile(r";([^/?#;\s\"'<>]*+)")
_USER_INFO = re.compile(r"(https?:[/\\]{0,9}+|[/\\]{2,9}+)(?:[^/\\?#\s\"'<>@]{1,2000}+@)++", re.IGNORECASE)
_SECRET_NAME = re.compile(r"cookie|token|secret|session|passw|api-?key|authori[sz]ation|credential", re.IGNORECASE)
_OF_THE_STANDARDS = frozenset({"www-authenticate", "proxy-authenticate"})


def without_secrets(url: Url) -> Url:
    """``/a;jsessionid=4f2a?token=4f2a&q=x`` becomes ``/a;jsessionid=?token=&q=``."""
    query = _names_alone(url.query) if url.query is not None else None
    return Url(url.scheme, url.host, url.port, _PATH_PARAMETERS.sub(_parameter, url.path), query)


def without_secrets_in(text: str) -> str:
    """The same for every address in a text, user information and fragments included."""
    text = _USER_INFO.sub(r"\1", text)
    head, *rest = re.split(r"(?=[?#])", text, maxsplit=1)
    rest_text = _QUERY_OR_FRAGMENT.sub(_query_or_fragment, rest[0]) if rest else ""
    return _PATH_PARAMETERS.sub(_parameter, head) + rest_text


def mask_field(name: str, value: str) -> str:
    """A field's value as evidence may keep it."""
    name = name.strip().lower()
    if name == "set-cookie":
        return mask_set_cookie(value)
    if _SECRET_NAME.search(name) and name not in _OF_THE_STANDARDS:
        return "*" * len(value)
    return _USER_INFO.sub(r"\1", value) if "@" in value else value


def _query_or_fragment(match: re.Match[str]) -> str:
    if match[1] == "#":
        return ""
    return "?" + _names_alone(match[2].partition("#")[0])


def _names_alone(query: str) -> str:
    return "&".join(map(_name_alone, query.split("&")))


def _name_alone(part: str) -> str:
    name, equals, _ = part.partition("=")
    return f"{name}=" if equals and len(name) <= MAX_NAME else "=" if equals else ""


def _parameter(match: re.Match[str]) -> str:
    return f";{_name_alone(match[1])}"
