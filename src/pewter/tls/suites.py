"""Cipher suites by code point: the IANA table as a data file beside this module.

The table's origin is Wireshark's list of suites; the properties and the column on RFC 9325 were added to it.
"""

import csv
import functools
import importlib.resources
from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class CipherSuite:
    """One row of the table."""

    code: int
    name: str
    key_exchange: str
    """``ECDHE``, ``DHE``, ``RSA`` and so on; ``any`` in TLS 1.3."""

    authentication: str
    cipher: str
    forward_secrecy: bool


@functools.cache
def table() -> dict[int, CipherSuite]:
    """Every known suite by its code point."""
    text = importlib.resources.files(__package__).joinpath("cipher_suites.csv").read_text(encoding="ascii")
    return {
        int(row["code"], 16): CipherSuite(
            int(row["code"], 16), row["name"], row["kx"], row["auth"], row["cipher"], row["forward_secrecy"] == "1"
        )
        for row in csv.DictReader(text.splitlines())
    }


def suite_name(code: int) -> str:
    """``TLS_AES_128_GCM_SHA256`` for 0x1301; an unknown code point as ``suite 0x1AEA``."""
    suite = table().get(code)
    return suite.name if suite else f"suite 0x{code:04X}"
