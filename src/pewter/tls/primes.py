"""Well-known primes of finite-field Diffie-Hellman, by SHA-256 of their octets.

A prime that many servers share is worth an attacker's precomputation; at 2048 bits and above that is out
of reach, and the published groups are then the better choice (RFC 7919 section 1).
"""

_WELL_KNOWN = {
    "b52ba6a3026520a6c49d37e4587601801bee500123b3259b6bf03e7cecc3e63d": "MODP group 1 of RFC 2409",
    "3f35a3f5f6c4376a744acad409bb22f8d897f949d2311d885adaa890981b67a0": "MODP group 2 of RFC 2409",
    "64fcc83ec403930bf18393dbc883ccaa1fbb08ac876f77f7aa99748ca945019b": "MODP group 5 of RFC 3526",
    "d66436f79bbd6b2e38c0ffbd079be904d2641415e2e67140e09448be9a60890e": "MODP group 14 of RFC 3526",
    "48cf8b092fbce4359d9871abf74f98e25b6163379eaa15cd9087e800c6d1c55c": "MODP group 15 of RFC 3526",
    "4ee95187682bcb230ad26a95205f6920e84708f6251b3894329b09ec23919e33": "MODP group 16 of RFC 3526",
    "d1bfe6d0925ce7e4da262b62861514a7755e35831e429f343e7b864848657efd": "MODP group 17 of RFC 3526",
    "39ab4feab950a3128fb71accb9fc3965d857012e081998a85996e3ea8b3c3bcf": "MODP group 18 of RFC 3526",
    "9cd3b7f336872f46c09428d1bbc19877a4d440512cda8d1c1cf0cd6e33698966": "ffdhe2048 of RFC 7919",
    "0eaf67db3a839156d5013494a5318a772b5697d270d721f37f092efc69ea5a17": "ffdhe3072 of RFC 7919",
    "4648414224ac881b3d0dc59b466f96d06a558278776807797ecf1f66ff397b3e": "ffdhe4096 of RFC 7919",
    "227ac9066b3ddd9e193670cda2388fa884f65ba0cf98b742d1fe77a6687c79c7": "ffdhe6144 of RFC 7919",
    "770b14efaf6f049929c523113b3fa99a8d11dab1b18af3609590122075d19833": "ffdhe8192 of RFC 7919",
    "44c55cfee5c075927cf682da5b681bdecbd5c3eb0784c14f5dce7610f0ef133d": "group 22 of RFC 5114",
    "bfe545862ca102ad1eeddb5fbfa5bf855ac4995c56a8b408ce3fe099dce93a9d": "group 23 of RFC 5114",
    "0b7835722cb619827610c2549fdda5587421686c4409a13865e76225522ddcc9": "group 24 of RFC 5114",
}


def well_known_prime(prime_sha256: str) -> str | None:
    """``ffdhe2048 of RFC 7919``; None for a prime of the server's own making."""
    return _WELL_KNOWN.get(prime_sha256)
