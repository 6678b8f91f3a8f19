"""Well-known primes of finite-field Diffie-Hellman, worked out anew from their definitions."""

import hashlib

import pytest

from pewter.tls.primes import _WELL_KNOWN, well_known_prime


def pi_bits(count: int) -> int:
    """floor(2^count * pi), by Machin's formula."""
    one = 1 << (count + 64)

    def arctan_inverse(x: int) -> int:
        term = total = one // x
        divisor, sign = 3, -1
        while term:
            term //= x * x
            total += sign * (term // divisor)
            divisor, sign = divisor + 2, -sign
        return total

    return 4 * (4 * arctan_inverse(5) - arctan_inverse(239)) >> 64


# RFC 2409 section 6 and RFC 3526: 2^n - 2^(n-64) - 1 + 2^64 * ([2^(n-130) pi] + offset)
@pytest.mark.parametrize(
    ("bits", "offset", "title"),
    [
        (768, 149686, "MODP group 1 of RFC 2409"),
        (1024, 129093, "MODP group 2 of RFC 2409"),
        (1536, 741804, "MODP group 5 of RFC 3526"),
        (2048, 124476, "MODP group 14 of RFC 3526"),
        (3072, 1690314, "MODP group 15 of RFC 3526"),
        (4096, 240904, "MODP group 16 of RFC 3526"),
    ],
)
def test_modp_groups_are_what_their_rfcs_define(bits, offset, title):
    prime = 2**bits - 2 ** (bits - 64) - 1 + 2**64 * (pi_bits(bits - 130) + offset)
    assert pow(2, prime - 1, prime) == 1
    assert well_known_prime(hashlib.sha256(prime.to_bytes(bits // 8, "big")).hexdigest()) == title


def test_an_unknown_prime_has_no_title():
    assert well_known_prime("0" * 64) is None
    assert len(_WELL_KNOWN) == 16
