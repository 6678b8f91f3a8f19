"""Coverage-guided fuzzing of every parser of hostile octets, with atheris: ``make fuzz`` (10 minutes).

The first octet says which parser the rest is for.  Whatever comes, a parser answers or raises its own
error type; anything else ends the run with the input that did it.
"""

import sys
import time
from pathlib import Path

import atheris

with atheris.instrument_imports(include=["pewter"]):
    from pewter.evidence import Offer
    from pewter.octets import DecodeError
    from pewter.pki import read_certificate
    from pewter.pki.crls import read_crl
    from pewter.pki.files import read_file
    from pewter.pki.forms import form_faults
    from pewter.pki.keys import read_key_facts
    from pewter.pki.ocsp import read_ocsp_response
    from pewter.pki.timestamps import read_timestamps
    from pewter.tls import Conversation
    from pewter.tls.hellos import read_client_hello, read_offered_versions, read_server_hello, read_server_name
    from pewter.tls.messages import (
        read_certificate as read_certificate_message,
    )
    from pewter.tls.messages import read_certificate_1_3, read_certificate_verify, read_server_key_exchange
    from pewter.tls.ssl2 import Ssl2Trial, read_ssl2_server_hello
    from pewter.tls.trial import Trial

RANDOM = bytes(range(64))
OFFERS = (
    Offer((0x0304, 0x0303), "x.example"),
    Offer((0x0303,), "x.example"),
    Offer((0x0301,), None),
    Offer((0x0300,), None),
)


def certificate(octets: bytes) -> None:
    read = read_certificate(octets)
    if not hasattr(read, "reason"):
        form_faults(read)
        str(read.subject), str(read.key), read.title


def client_hello(octets: bytes) -> None:
    hello = read_client_hello(octets)
    read_offered_versions(hello)
    read_server_name(hello)


def stream(client, octets: bytes) -> None:
    """Fed in pieces, as they come from a socket."""
    client.start()
    step = 1 + (octets[0] if octets else 0)
    for start in range(0, len(octets), step):
        client.receive(octets[start : start + step])
    client.peer_ended("closed", "end")
    assert client.answer is not None


PARSERS = (
    certificate,
    read_ocsp_response,
    read_crl,
    read_timestamps,
    read_key_facts,
    lambda octets: read_file("x", octets),
    client_hello,
    read_server_hello,
    read_certificate_message,
    read_certificate_1_3,
    read_certificate_verify,
    lambda octets: read_server_key_exchange(octets, 0x0303, elliptic=True),
    lambda octets: read_server_key_exchange(octets, 0x0303, elliptic=False),
    read_ssl2_server_hello,
    lambda octets: stream(Conversation(OFFERS[0], RANDOM), octets),
    lambda octets: stream(Conversation(OFFERS[1], RANDOM), octets),
    lambda octets: stream(Conversation(OFFERS[2], RANDOM), octets),
    lambda octets: stream(Trial(OFFERS[1], RANDOM, to_key_exchange=True), octets),
    lambda octets: stream(Trial(OFFERS[3], RANDOM), octets),
    lambda octets: stream(Ssl2Trial(RANDOM), octets),
)
COUNTS = {"inputs": 0, "refused": 0}
BEGUN = time.monotonic()


def try_one(data: bytes) -> None:
    if not data:
        return
    COUNTS["inputs"] += 1
    if COUNTS["inputs"] % 100_000 == 0:
        print(
            f"fuzz: {COUNTS['inputs']} inputs, {COUNTS['refused']} refused, {time.monotonic() - BEGUN:.0f} s",
            flush=True,
        )
    try:
        PARSERS[data[0] % len(PARSERS)](data[1:])
    except DecodeError:
        COUNTS["refused"] += 1


def seeds(folder: Path) -> None:
    """Real octets to begin with: certificates, and whole answers of servers."""
    import cryptography_vectors

    folder.mkdir(parents=True, exist_ok=True)
    vectors = Path(cryptography_vectors.__file__).parent / "x509"
    for number, file in enumerate([*vectors.glob("*.der"), *(vectors / "ocsp").glob("*.der")][:60]):
        (folder / f"vector{number}").write_bytes(bytes((1 if "ocsp" in str(file) else 0,)) + file.read_bytes())
    hello = (
        bytes.fromhex("160303003a020000360303")
        + bytes(32)
        + bytes.fromhex("00c02f00000eff0100010000170000000b00020100")
    )
    for which in range(14, 19):
        (folder / f"hello{which}").write_bytes(bytes((which, 40)) + hello)


if __name__ == "__main__":
    corpus = Path(sys.argv[1])
    seeds(corpus)
    atheris.Setup([sys.argv[0], str(corpus), *sys.argv[2:]], try_one)
    atheris.Fuzz()
