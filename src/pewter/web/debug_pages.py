"""Signs that a page shows what only its makers should see, and the versions that error pages name.

Debug output is a traceback, settings, the environment, source or a console.  A default error page that names its
server is none of these: it gives a version away, which is another matter.
"""

import re

_PATH = r"(?:file:///|/|[A-Za-z]:\\)"

_SIGNS: tuple[tuple[str, bool, str], ...] = (
    ("a Python traceback", False, r"Traceback \(most recent call last\)[^\0]{1,400}?File (?:\"|&quot;|&#34;)[^\"&\n]{1,300}+(?:\"|&quot;|&#34;), line [0-9]"),
    ("Django's debug page", True, r"You(?:'|\u2019|&#x27;|&rsquo;)re seeing this error because you have <code>DEBUG = True</code>|Using the URLconf defined in\s{1,20}+<code>|<th scope=\"row\">Django Version:</th>"),
    ("the Werkzeug debugger", True, r"The debugger caught an exception in your WSGI application|__debugger__=yes|EVALEX = true"),
    ("Laravel's exception page", True, r"Illuminate\\[A-Z][A-Za-z\\]{1,80}Exception|vendor/laravel/framework/src"),
    ("Symfony's exception page", True, r"Symfony Exception|Symfony\\Component\\[A-Z]\w{1,60}\\"),
    ("a PHP error with its file", True, r"<b>(?:Fatal error|Parse error|Warning|Notice|Deprecated)</b>:[^\n]{1,600}? in <b>" + _PATH),
    ("a PHP error with its file", False, r"(?:Fatal error|Parse error|Warning|Notice|Deprecated): [^\n]{1,600}? in " + _PATH + r"[^\n]{1,200}?(?: on line |:)[0-9]"),
    ("phpinfo()", True, r"<title>(?:PHP [0-9.]{1,20}+ - )?phpinfo\(\)|<h1 class=\"p\">PHP Version "),
    ("Rails' exception page", True, r"<code>Rails\.root: " + _PATH),
    ("a Ruby stack trace", False, r"\w\.rb:[0-9]{1,6}:in (?:`|'|&#39;|&#x27;)"),
    ("a Java stack trace", False, r"(?:\A|[\s>])(?:at )?[a-z][\w$]{0,60}+(?:\.[\w$<>]{1,100}+){1,20}+\([A-Z][\w$]{0,80}\.(?:java|kt|scala|groovy):[0-9]{1,6}\)"),
    ("an ASP.NET stack trace", False, r"\bat [A-Z][\w.`+<>\[\]]{1,200}+\([^()\n]{0,300}+\) in " + _PATH + r"[^\n]{1,200}?:line [0-9]|\[\w{0,60}Exception(?: \(0x[0-9a-f]{1,8}\))?: [^\n]{1,400}?\]\s{1,40}+[A-Z][\w.]{1,200}\("),
    ("a Node.js stack trace", False, r"\bat (?:(?:async |new )?[\w.$<>&;\[\] ]{1,100}? \()?" + _PATH + r"[^\s():<>]{1,200}+:[0-9]{1,6}:[0-9]{1,6}"),
    ("a Go panic", False, r"goroutine [0-9]{1,9}+ \[running\]:"),
    ("a Perl error with its file", False, r"<h1>Software error:</h1>[^\0]{1,600}? at /[^\s]{1,200}+ line [0-9]"),
    ("a database error", False, r"You have an error in your SQL syntax|SQLSTATE\[[0-9A-Z]{1,9}\]|\bORA-[0-9]{5}:|psycopg2?\.[A-Z]\w{1,60}Error"),
    ("a command console", True, r"CONSOLE_MODE = true|<title>Interactive Console // Werkzeug"),
)  # fmt: skip
"""Title; whether it is a sign on any page, or on error pages alone, since an article may quote it; pattern.

Every repetition is bounded, so that one look takes time linear in the page.
"""

_COMPILED = tuple((title, re.compile(pattern)) for title, _, pattern in _SIGNS)
_BARE_VERSION = re.compile(r"[0-9]{1,5}(?:\.[0-9]{1,9}){1,4}")
ON_ANY_PAGE = frozenset(title for title, anywhere, _ in _SIGNS if anywhere)
_LOOKED_AT = 100_000
"""Characters: one search of a pattern cannot be interrupted, so that each has to be short."""


_VERSION = r"[0-9]{1,5}\.[0-9][0-9A-Za-z.+~_-]{0,30}+"
_SIGNATURE = re.compile(
    rf"<(?:center|address|h3|small|em|i)>\s{{0,20}}+([A-Za-z][A-Za-z-]{{1,20}}+(?: [A-Z][A-Za-z]{{1,20}}+)?/{_VERSION})"
    rf"|(Powered by Jetty://\s?{_VERSION})"
)
_PRODUCT = re.compile(rf"(?<![\w.-])([A-Za-z][A-Za-z0-9_.-]{{0,40}}+/{_VERSION})")


def debug_signs(text: str) -> tuple[str, ...]:
    """What the page shows, in words, each once: ``("Django's debug page",)``."""
    looked_at = text[:_LOOKED_AT]
    return tuple(dict.fromkeys(title for title, pattern in _COMPILED if pattern.search(looked_at)))


def versions_named(text: str) -> tuple[str, ...]:
    """Exact versions in the signature of an error page: ``("nginx/1.22.1",)``."""
    found = (match[1] or match[2] for match in _SIGNATURE.finditer(text[:_LOOKED_AT]))
    return tuple(dict.fromkeys(found))[:4]


def versions_in_field(value: str) -> tuple[str, ...]:
    """Exact versions in a Server or X-Powered-By value: ``("Apache/2.4.62", "OpenSSL/3.0.15")``."""
    bare = _BARE_VERSION.fullmatch(value[:1000])  # X-AspNet-Version: 4.0.30319
    return (bare[0],) if bare is not None else tuple(dict.fromkeys(_PRODUCT.findall(value[:1000])))[:6]
