"""Cipher suites by code point: the IANA table as a data file beside this module.

The table's origin is Wireshark's list of suites; the properties were added to it.
"""

import csv
import functools

import msgspec

from pewter.data import text_beside


class CipherSuite(msgspec.Struct, frozen=True):
    """One row of the table."""

    code: int
    name: str
    key_exchange: str
    """``ECDHE``, ``DHE``, ``RSA`` and so on; ``any`` in TLS 1.3."""

    authentication: str
    """``RSA``, ``ECDSA``, ``none`` and so on."""

    cipher: str
    forward_secrecy: bool
    bits: int = 0
    """Of the cipher's key."""

    is_aead: bool = False
    mac: str = ""
    is_export: bool = False
    is_tls_1_3: bool = False
    needs_tls_1_2: bool = False


@functools.cache
def table() -> dict[int, CipherSuite]:
    """Every known suite by its code point."""
    text = text_beside(__file__, "cipher_suites.csv")
    return {
        int(row["code"], 16): CipherSuite(
            code=int(row["code"], 16),
            name=row["name"],
            key_exchange=row["kx"],
            authentication=row["auth"],
            cipher=row["cipher"],
            forward_secrecy=row["forward_secrecy"] == "1",
            bits=int(row["bits"] or 0),
            is_aead=row["aead"] == "1",
            mac=row["mac"],
            is_export=row["export"] == "1",
            is_tls_1_3=row["tls13"] == "1",
            needs_tls_1_2=row["tls13"] != "1" and (row["aead"] == "1" or row["mac"] in {"SHA256", "SHA384"}),
        )
        for row in csv.DictReader(text.splitlines())
    }


def suite_name(code: int) -> str:
    """``TLS_AES_128_GCM_SHA256`` for 0x1301; an unknown code point as ``suite 0x1AEA``."""
    suite = table().get(code)
    return suite.name if suite else f"suite 0x{code:04X}"


def weakness(suite: CipherSuite) -> str:
    """Why a suite can be broken; empty for one that can not."""
    if suite.cipher == "NULL":
        return "no encryption"
    if suite.authentication == "none":
        return "nobody proves who the server is"
    if suite.is_export:
        return "export-grade key"
    if suite.cipher.startswith("RC4"):
        return "RC4"
    if suite.cipher.startswith(("DES", "RC2")):
        return f"key of {suite.bits} bits"
    if "3DES" in suite.cipher:
        return "3DES, blocks of 64 bits"
    if suite.cipher.startswith("IDEA"):
        return "IDEA, blocks of 64 bits"
    return "MD5" if suite.mac == "MD5" else ""


STRENGTHS = ("AEAD", "CBC", "no forward secrecy", "weak")
"""Best first."""


def strength_of(suite: CipherSuite) -> str:
    """One of STRENGTHS."""
    if weakness(suite):
        return "weak"
    if not suite.forward_secrecy:
        return "no forward secrecy"
    return "AEAD" if suite.is_aead else "CBC"
