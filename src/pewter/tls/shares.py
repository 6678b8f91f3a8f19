"""Key shares: one ephemeral private key a group (RFC 8446 section 4.2.8)."""

import functools
import itertools
import secrets
from collections.abc import Callable

import msgspec
from cryptography.exceptions import UnsupportedAlgorithm
from cryptography.hazmat.backends import default_backend
from cryptography.hazmat.primitives import serialization
from cryptography.hazmat.primitives.asymmetric import ec, x448, x25519

from pewter.octets import DecodeError

from .codepoints import Group, group_name

default_backend()  # what it loads is loaded before connections may have taken every descriptor

_CURVES: dict[int, type[ec.EllipticCurve]] = {
    Group.SECP256R1: ec.SECP256R1,
    Group.SECP384R1: ec.SECP384R1,
    Group.SECP521R1: ec.SECP521R1,
}


_FINITE_FIELDS: dict[int, tuple[int, int]] = {Group.FFDHE2048: (2048, 560316), Group.FFDHE3072: (3072, 2625351)}
"""Bits of the prime, and the number in it by which it became a safe one (RFC 7919 appendix A)."""

_ML_KEM_MODULUS = 3329
_ENCAPSULATED_OCTETS = 1088
"""Of ML-KEM-768 (FIPS 203 table 3)."""


COMPUTED_GROUPS = frozenset(map(int, (Group.X25519, Group.X448, *_CURVES, *_FINITE_FIELDS, Group.X25519MLKEM768)))
"""Those of which a share can be made, and so asked for."""


class KeyShare(msgspec.Struct, frozen=True):
    """Our half of a key agreement."""

    group: int
    public: bytes
    """As in KeyShareEntry.key_exchange: an uncompressed point, the 32 or 56 octets of X25519 or X448, a number as long
    as its prime, or an encapsulation key before a share of X25519."""

    agree: Callable[[bytes], bytes]
    """From the peer's key_exchange to the shared secret; raises DecodeError for what is no point of the group."""


def make_share(group: int) -> KeyShare:
    """A fresh share; ValueError for a group that Pewter cannot compute."""
    if group == Group.X25519:
        return share_of_x25519(x25519.X25519PrivateKey.generate())
    if group == Group.X448:
        return _share_of_x448(x448.X448PrivateKey.generate())
    if group in _CURVES:
        return _share_of_curve(group, ec.generate_private_key(_CURVES[group]()))
    if group in _FINITE_FIELDS:
        return _share_of_finite_field(group)
    if group == Group.X25519MLKEM768:
        return _share_of_hybrid()
    raise ValueError(f"no key share for group 0x{group:04X}")


def share_of_x25519(private: x25519.X25519PrivateKey) -> KeyShare:
    """A share of a known key, so that published traces can be followed."""

    def agree(peer: bytes) -> bytes:
        try:
            return private.exchange(x25519.X25519PublicKey.from_public_bytes(peer))
        except ValueError as exc:
            raise DecodeError("key_share", 0, "no X25519 public key") from exc

    return KeyShare(Group.X25519, private.public_key().public_bytes_raw(), agree)


def _share_of_x448(private: x448.X448PrivateKey) -> KeyShare:
    def agree(peer: bytes) -> bytes:
        try:
            return private.exchange(x448.X448PublicKey.from_public_bytes(peer))
        except ValueError as exc:
            raise DecodeError("key_share", 0, "no X448 public key") from exc

    return KeyShare(Group.X448, private.public_key().public_bytes_raw(), agree)


@functools.cache
def prime_of(group: int) -> int:
    """The safe prime of a finite-field group, worked out as RFC 7919 appendix A has it: from the digits of e."""
    bits, found = _FINITE_FIELDS[group]
    # e to as many binary places as are wanted, and a few more.
    places = bits + 64
    term = total = 1 << places
    for divisor in itertools.count(1):
        term //= divisor
        if not term:
            break
        total += term
    digits = total >> places - (bits - 130)
    return (1 << bits) - (1 << bits - 64) + (digits + found << 64) - 1


def _share_of_finite_field(group: int) -> KeyShare:
    """Of ffdhe2048 or ffdhe3072, with an exponent of 256 bits (RFC 7919 section 5.2)."""
    prime, exponent = prime_of(group), secrets.randbits(256) | 1 << 255
    octets = prime.bit_length() // 8

    def agree(peer: bytes) -> bytes:
        theirs = int.from_bytes(peer, "big")
        if len(peer) != octets or not 1 < theirs < prime - 1:
            raise DecodeError("key_share", 0, f"no number of {group_name(group)}")
        return pow(theirs, exponent, prime).to_bytes(octets, "big")

    return KeyShare(group, pow(2, exponent, prime).to_bytes(octets, "big"), agree)


def _share_of_hybrid() -> KeyShare:
    """A share of X25519MLKEM768: ML-KEM first, then X25519 (draft-ietf-tls-ecdhe-mlkem section 4)."""
    try:
        from cryptography.hazmat.primitives.asymmetric import mlkem  # noqa: PLC0415  newer than what we ask for

        private = mlkem.MLKEM768PrivateKey.generate()
    except (ImportError, UnsupportedAlgorithm):
        return _half_share_of_hybrid()
    classical = share_of_x25519(x25519.X25519PrivateKey.generate())

    def agree(peer: bytes) -> bytes:
        try:
            shared = private.decapsulate(peer[:_ENCAPSULATED_OCTETS])
        except ValueError as exc:
            raise DecodeError("key_share", 0, "no ciphertext of ML-KEM-768") from exc
        return shared + classical.agree(peer[_ENCAPSULATED_OCTETS:])

    return KeyShare(Group.X25519MLKEM768, private.public_key().public_bytes_raw() + classical.public, agree)


def _half_share_of_hybrid() -> KeyShare:
    """As browsers send it, for hellos that end at ServerHello: nobody holds its secret.

    An encapsulation key is any 768 coefficients below the modulus, 12 bits each, and 32 octets of seed (FIPS 203).
    """
    drawn = memoryview(secrets.token_bytes(2 * 768)).cast("H")
    pairs = zip(drawn[::2], drawn[1::2], strict=True)
    packed = b"".join(
        (low % _ML_KEM_MODULUS | high % _ML_KEM_MODULUS << 12).to_bytes(3, "little") for low, high in pairs
    )

    def agree(peer: bytes) -> bytes:
        raise DecodeError("key_share", 0, "a share without its secret")

    return KeyShare(Group.X25519MLKEM768, packed + secrets.token_bytes(32) + secrets.token_bytes(32), agree)


def _share_of_curve(group: int, private: ec.EllipticCurvePrivateKey) -> KeyShare:
    def agree(peer: bytes) -> bytes:
        try:
            point = ec.EllipticCurvePublicKey.from_encoded_point(private.curve, peer)
            return private.exchange(ec.ECDH(), point)
        except (ValueError, UnsupportedAlgorithm) as exc:
            raise DecodeError("key_share", 0, f"no point of {private.curve.name}") from exc

    public = private.public_key().public_bytes(
        serialization.Encoding.X962, serialization.PublicFormat.UncompressedPoint
    )
    return KeyShare(group, public, agree)
