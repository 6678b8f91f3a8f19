"""Names, cookies and policies that a site may send to break out of a line: what the composer makes of them is read by
each server's own configuration test.
"""

from collections.abc import Iterator

import msgspec

from pewter.judge.rules import RULES
from pewter.mends.composer import Piece, Situation, compose
from pewter.mends.kinds import Kind

HOSTS = (
    'x";}.example', "x'}.example", "x;return 444;.example", "x.example\nserver {}", "x.example\r\nDefine A", "x.example #",
    "$(reboot).example", "`id`.example", "{env.HOME}.example", "%{HTTP_HOST}.example", "${x}.example", "x\\.example", "x example",
    "*.example", "<x>.example", "[::1];", "../../etc", "x\u2028.example", "x\0.example", "@host@", "@cookie@",
    # Harmless letters, but words of the configuration languages or odd names.
    "default", "default_server", "hostnames", "include", "off", "none", "on", "all", "end", "if", "_", "localhost", "0", "--",
    "a..b", "-x.example", "x-.example", "_x.example", "x.", "xn--bcher-kva.example", "1.2.3.4", "[2001:db8::7]", "[::ffff:1.2.3.4]",
    f"{'a' * 63}.{'b' * 63}.{'c' * 63}.example",
)  # fmt: skip
COOKIES = (
    'a"b', "a'b", "a;b", "a b", "a\nb", "a\\", "$a", "{a}", "a)(", "a|b", "a#", "%{a}e", "~a", ".*", "..", "-a", "off", "default",
    "__Host-sid", "a.b-c_d", "a" * 100, "a" * 101, "@host@",
)  # fmt: skip
POLICIES = (
    'default-src "x"', "a'; b", "a\\", "a\nb", "a ${b}", "a {b}", "a %{b}e", "a #b", "a `b`", "; ;", "default-src 'self'; img-src *",
    "script-src 'nonce-x+y=='", "a" * 2001, "@sts@",
)  # fmt: skip
PLAIN = Situation(
    host="mend.example", landing="www.mend.example", canonical="https://www.mend.example", names=("www.mend.example",),
    cookies=("sid",), max_age=31536000, sts="max-age=31536000", policy="frame-ancestors 'self'", names_powered_by=True,
    is_own_circle=True,
)  # fmt: skip


def situations() -> Iterator[tuple[str, Situation]]:
    for host in HOSTS:
        yield host, msgspec.structs.replace(PLAIN, host=host)
        yield host, msgspec.structs.replace(PLAIN, landing=host, names=(host,), canonical=f"https://{host}")
    for cookie in COOKIES:
        yield cookie, msgspec.structs.replace(PLAIN, cookies=(cookie,))
    for policy in POLICIES:
        yield policy, msgspec.structs.replace(PLAIN, policy=policy, sts=policy)


def pieces_with(kind: Kind) -> Iterator[tuple[str, str, tuple[Piece, ...]]]:
    """Rule, what is hostile, and the pieces that it changes; each text once."""
    seen: set[tuple[str, ...]] = set()
    for rule in RULES:
        for is_secure in (True, False):
            plain = msgspec.structs.replace(PLAIN, is_secure=is_secure)
            seen.add(tuple(piece.lines for piece in compose(rule.name, kind, [plain])))
            for hostile, here in situations():
                pieces = compose(rule.name, kind, [msgspec.structs.replace(here, is_secure=is_secure)])
                lines = tuple(piece.lines for piece in pieces)
                if lines and lines not in seen:
                    seen.add(lines)
                    yield rule.name, hostile, pieces
