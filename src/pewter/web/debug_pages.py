"""Signs that a page shows what only its makers should see: tracebacks, settings, versions."""

import re

_SIGNS: tuple[tuple[str, str], ...] = (
    ("a Python traceback", r"Traceback \(most recent call last\)"),
    ("Django's debug page", r"You.re seeing this error because you have <code>DEBUG = True</code>|Using the URLconf defined in"),
    ("the Werkzeug debugger", r"The debugger caught an exception in your WSGI application|__debugger__=yes"),
    ("Laravel's exception page", r"Whoops! There was an error|Illuminate\\[A-Z][A-Za-z\\]+Exception|laravel/framework/src"),
    ("Symfony's exception page", r"Symfony Exception|Symfony\\Component\\[A-Z]"),
    ("a PHP error with its file", r"<b>(?:Fatal error|Parse error|Warning|Notice)</b>: .{1,400}? in <b>/|PHP Fatal error:"),
    ("Rails' exception page", r"<h1>Routing Error</h1>|Rails\.root: /|ActionController::RoutingError"),
    ("a Java stack trace", r"(?:Exception|Error)(?::[^\n<]{0,200})?\s*(?:<[^>]{1,20}>|\s)*at [a-z][\w.$]+\([A-Z]\w+\.java:[0-9]+\)"),
    ("Spring's error page", r"Whitelabel Error Page"),
    ("an ASP.NET error page", r"Server Error in '/[^']*' Application|\[HttpException|Version Information:.{0,40}Microsoft \.NET"),
    ("a Node.js stack trace", r"at (?:[\w.<>]+ )?\(?(?:/[\w.-]+)+/node_modules/"),
    ("Apache Tomcat's version", r"<h3>Apache Tomcat/[0-9][0-9.]*</h3>"),
    ("a server's version", r"<address>Apache/[0-9][^<]{0,80}</address>|<center>nginx/[0-9][0-9.]*</center>"),
    ("phpinfo()", r"<title>phpinfo\(\)|PHP Version [0-9.]+</h1>"),
    ("a database error", r"You have an error in your SQL syntax|SQLSTATE\[[0-9A-Z]+\]|ORA-[0-9]{5}:|psycopg2?\.[A-Z]\w+Error"),
)  # fmt: skip
_COMPILED = tuple((title, re.compile(pattern)) for title, pattern in _SIGNS)
_LOOKED_AT = 400_000


def debug_signs(text: str) -> tuple[str, ...]:
    """What the page shows, in words, each once: ``("Django's debug page",)``."""
    return tuple(title for title, pattern in _COMPILED if pattern.search(text[:_LOOKED_AT]))
