"""Key shares: one ephemeral private key a group (RFC 8446 section 4.2.8)."""

import secrets
from collections.abc import Callable

import msgspec
from cryptography.exceptions import UnsupportedAlgorithm
from cryptography.hazmat.primitives import serialization
from cryptography.hazmat.primitives.asymmetric import ec, x448, x25519

from pewter.octets import DecodeError

from .codepoints import Group

_CURVES: dict[int, type[ec.EllipticCurve]] = {
    Group.SECP256R1: ec.SECP256R1,
    Group.SECP384R1: ec.SECP384R1,
    Group.SECP521R1: ec.SECP521R1,
}


_ML_KEM_MODULUS = 3329


class KeyShare(msgspec.Struct, frozen=True):
    """Our half of a key agreement."""

    group: int
    public: bytes
    """As in KeyShareEntry.key_exchange: an uncompressed point, or the 32 or 56 octets of X25519 or X448."""

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
    if group == Group.X25519MLKEM768:
        return _half_share_of_hybrid()
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


def _half_share_of_hybrid() -> KeyShare:
    """A share of X25519MLKEM768 as browsers send it, for hellos that end at ServerHello: nobody holds its secret.

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
