"""The root stores that come with Pewter and with the machine.

The environment's certificate settings (SSL_CERT_FILE and the like) are left aside: a review should not
depend on a variable that somebody set for another program.
"""

import ssl
import sys
from pathlib import Path

from pewter.pki import Store, read_store

MAX_OCTETS = 16 << 20
BUNDLES = (
    "/etc/ssl/certs/ca-certificates.crt",
    "/etc/pki/ca-trust/extracted/pem/tls-ca-bundle.pem",
    "/etc/pki/tls/certs/ca-bundle.crt",
    "/etc/ssl/ca-bundle.pem",
    "/etc/ssl/cert.pem",
)
"""Where systems keep all their roots in one file: Debian, Fedora and RHEL, SUSE, the BSDs and macOS."""


def own_stores() -> tuple[Store, ...]:
    """Mozilla's roots, and the system's where it keeps some that can be read."""
    system = system_store()
    return (bundled_store(), *((system,) if system is not None else ()))


def bundled_store() -> Store:
    """Mozilla's roots as certifi packs them."""
    import certifi  # noqa: PLC0415

    octets = Path(certifi.where()).read_bytes()
    return read_store("Mozilla's roots", octets, f"certifi {certifi.__version__}", is_public=True)


def system_store() -> Store | None:
    """The roots of this machine; None where none are found."""
    title = "this system's roots"
    if sys.platform == "win32":
        found = b"".join(
            ssl.DER_cert_to_PEM_cert(octets).encode("ascii")
            for octets, encoding, _ in ssl.enum_certificates("ROOT")
            if encoding == "x509_asn"
        )
        return read_store(title, found, "the Windows store ROOT") if found else None
    for text in (*BUNDLES, ssl.get_default_verify_paths().openssl_cafile):
        path = Path(text)
        try:
            if path.is_file() and path.stat().st_size <= MAX_OCTETS:
                store = read_store(title, path.read_bytes(), text)
                if store.anchors:
                    return store
        except OSError:
            continue
    return None
