"""What the hellos of two current browsers offer, as far as it decides whether a handshake comes about."""

import msgspec

from pewter.evidence import Offer

from .codepoints import Group, Version
from .offers import MODERN

_TLS_1_3 = (0x1301, 0x1302, 0x1303)
_RSA_AND_CBC = (0x009C, 0x009D, 0x002F, 0x0035)


class BrowserProfile(msgspec.Struct, frozen=True):
    """One browser, as its desktop version comes."""

    title: str
    suites: tuple[int, ...]
    groups: tuple[int, ...]
    shares: tuple[int, ...]
    schemes: tuple[int, ...]
    """SignatureScheme code points, for handshakes and certificates."""

    options: tuple[str, ...]

    def offer(self, server_name: str | None) -> Offer:
        """Its hello."""
        return Offer(
            MODERN, server_name, self.suites, self.groups, self.shares, self.schemes, ("h2", "http/1.1"), self.options
        )

    @property
    def versions(self) -> tuple[int, ...]:
        return (int(Version.TLS_1_3), int(Version.TLS_1_2))


CHROMIUM = BrowserProfile(
    "Chromium",
    (*_TLS_1_3, 0xC02B, 0xC02F, 0xC02C, 0xC030, 0xCCA9, 0xCCA8, 0xC013, 0xC014, *_RSA_AND_CBC),
    tuple(map(int, (Group.X25519MLKEM768, Group.X25519, Group.SECP256R1, Group.SECP384R1))),
    tuple(map(int, (Group.X25519MLKEM768, Group.X25519))),
    (0x0403, 0x0804, 0x0401, 0x0503, 0x0805, 0x0501, 0x0806, 0x0601),
    ("rich", "browser", "compressed", "grease"),
)
FIREFOX = BrowserProfile(
    "Firefox",
    (*_TLS_1_3, 0xC02B, 0xC02F, 0xCCA9, 0xCCA8, 0xC02C, 0xC030, 0xC00A, 0xC013, 0xC014, *_RSA_AND_CBC),
    tuple(
        map(
            int,
            (
                *(Group.X25519MLKEM768, Group.X25519, Group.SECP256R1, Group.SECP384R1, Group.SECP521R1),
                *(Group.FFDHE2048, Group.FFDHE3072),
            ),
        )
    ),
    tuple(map(int, (Group.X25519MLKEM768, Group.X25519, Group.SECP256R1))),
    (0x0403, 0x0503, 0x0603, 0x0804, 0x0805, 0x0806, 0x0401, 0x0501, 0x0601, 0x0203, 0x0201),
    ("rich", "browser"),
)
BROWSERS = (CHROMIUM, FIREFOX)
