"""Encrypted keys that ask for a given work; nothing is encrypted in them."""

from pewter.pki import der


def _oid(text: str) -> bytes:
    return der.build(der.OBJECT_IDENTIFIER, bytes.fromhex(text))


def encrypted_by_pbkdf2(rounds: int) -> bytes:
    parameters = der.build(der.SEQUENCE, der.build(der.OCTET_STRING, bytes(8)) + der.build_integer(rounds))
    return _pbes_2(der.build(der.SEQUENCE, _oid("2a864886f70d01050c") + parameters))


def encrypted_by_scrypt(cost: int) -> bytes:
    numbers = b"".join(map(der.build_integer, (cost, 8, 1)))
    return _pbes_2(
        der.build(
            der.SEQUENCE,
            _oid("2b06010401da47040b") + der.build(der.SEQUENCE, der.build(der.OCTET_STRING, bytes(8)) + numbers),
        )
    )


def _pbes_2(derivation: bytes) -> bytes:
    cipher = der.build(der.SEQUENCE, _oid("60864801650304012a") + der.build(der.OCTET_STRING, bytes(16)))
    algorithm = der.build(der.SEQUENCE, _oid("2a864886f70d01050d") + der.build(der.SEQUENCE, derivation + cipher))
    return der.build(der.SEQUENCE, algorithm + der.build(der.OCTET_STRING, bytes(160)))


def pkcs_12_of_rounds(rounds: int) -> bytes:
    data = der.build(
        der.SEQUENCE,
        _oid("2a864886f70d010701") + der.build(0xA0, der.build(der.OCTET_STRING, der.build(der.SEQUENCE, b""))),
    )
    digest = der.build(
        der.SEQUENCE, der.build(der.SEQUENCE, _oid("608648016503040201")) + der.build(der.OCTET_STRING, bytes(32))
    )
    return der.build(
        der.SEQUENCE,
        der.build_integer(3)
        + data
        + der.build(der.SEQUENCE, digest + der.build(der.OCTET_STRING, bytes(8)) + der.build_integer(rounds)),
    )
