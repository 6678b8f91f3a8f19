"""What is in a file of certificates and keys: PEM, DER, PKCS #7, PKCS #12, and what goes wrong in pasting.

Nothing here raises for what a file holds: a block that cannot be read is an item that says why.
"""

import base64
import enum
import re
from collections.abc import Callable

import msgspec
from cryptography.exceptions import UnsupportedAlgorithm

from pewter.octets import DecodeError

from . import der
from .certificates import Certificate, MalformedCertificate, read_certificate
from .crls import read_crl
from .der import DerReader
from .derivation import why_too_costly
from .keys import read_key_facts
from .pem import PemBlock, decode_body, has_marks, is_certificate_set, read_blocks, read_certificate_set

MAX_ITEMS = 500
MAX_PROBLEMS = 20

Passphrase = Callable[[str], bytes | None]
"""Asked with the words for what is to be opened; None where there is no passphrase to be had."""

_BROKEN_MARK = re.compile(r"[-\u2010-\u2015]{1,20} ?(?:BEGIN|END) [A-Z0-9 #]{1,40}")
_KEY_LABELS = frozenset(
    {"PRIVATE KEY", "RSA PRIVATE KEY", "EC PRIVATE KEY", "DSA PRIVATE KEY", "ENCRYPTED PRIVATE KEY"}
)
_CERTIFICATE_LABELS = frozenset({"CERTIFICATE", "X509 CERTIFICATE", "TRUSTED CERTIFICATE"})
_NO_FILE = "a web page, not a certificate: the download gave an error page"
_JAVA_KEY_STORE = b"\xfe\xed\xfe\xed"


class FileKind(enum.Enum):
    """What one block of a file is."""

    CERTIFICATE = "certificate"
    REQUEST = "certificate request"
    PRIVATE_KEY = "private key"
    REVOCATION_LIST = "CRL"
    PUBLIC_KEY = "public key"
    OTHER = "other"


class FileForm(enum.Enum):
    """How a file is written."""

    PEM = "PEM"
    PKCS7_AS_PEM = "PKCS #7 as PEM"
    DER = "DER"
    PKCS7 = "PKCS #7"
    PKCS12 = "PKCS #12"
    JKS = "JKS"
    BASE64 = "base64"
    HTML = "HTML"
    TEXT = "text"
    BINARY = "binary"
    EMPTY = "empty"

    @property
    def is_pem(self) -> bool:
        return self is FileForm.PEM

    @property
    def is_set(self) -> bool:
        """Without an order; servers read none of these forms as they are."""
        return self in {FileForm.PKCS7_AS_PEM, FileForm.PKCS7, FileForm.PKCS12}


class FileItem(msgspec.Struct, frozen=True):
    """One thing in a file."""

    kind: FileKind
    words: str
    """For an item other than a certificate: what it is."""

    certificate: Certificate | MalformedCertificate | None = None
    spki: bytes | None = None
    """SubjectPublicKeyInfo of a key or request."""

    problem: str = ""
    """Why it is of no use as it stands."""

    is_encrypted: bool = False


class FileContents(msgspec.Struct, frozen=True):
    """One file, taken apart."""

    name: str
    form: FileForm

    items: tuple[FileItem, ...] = ()
    problems: tuple[str, ...] = ()
    """What is wrong with the file as a whole, or between its blocks."""

    @property
    def certificates(self) -> tuple[Certificate, ...]:
        """Those that can be read, in order."""
        return tuple(each.certificate for each in self.items if isinstance(each.certificate, Certificate))


def read_file(name: str, octets: bytes, passphrase: Passphrase = lambda _: None) -> FileContents:
    """Take a file apart."""
    if not octets.strip():
        return FileContents(name, FileForm.EMPTY, problems=("the file is empty",))
    if octets.startswith(_JAVA_KEY_STORE):
        words = "a Java key store (JKS); 'keytool -importkeystore -deststoretype pkcs12' makes a PKCS #12 file of it"
        return FileContents(name, FileForm.JKS, problems=(words,))
    text, notes = _as_text(octets)
    if text is not None and (has_marks(text) or _BROKEN_MARK.search(text)):
        return _read_pem(name, text, notes, passphrase)
    if octets[:1] == b"\x30":
        return _read_der(name, octets, passphrase)
    if text is not None:
        return _read_bare_text(name, text, passphrase)
    return FileContents(name, FileForm.BINARY, problems=("neither PEM nor DER: this is no certificate and no key",))


def _as_text(octets: bytes) -> tuple[str | None, list[str]]:
    """The text of a text file, and what is odd about its encoding."""
    for mark, encoding in ((b"\xff\xfe", "utf-16"), (b"\xfe\xff", "utf-16")):
        if octets.startswith(mark):
            words = "it is UTF-16 text, which servers do not read: save it as plain ASCII"
            return octets.decode(encoding, "replace"), [words]
    if octets.startswith(b"\xef\xbb\xbf"):
        words = "it begins with a byte order mark, over which some servers stumble"
        return octets[3:].decode("utf-8", "replace"), [words]
    if b"\x00" in octets[:4096]:
        return None, []
    return octets.decode("utf-8", "replace"), []


# PEM (RFC 7468)


def _read_pem(name: str, text: str, problems: list[str], passphrase: Passphrase) -> FileContents:
    if "\\n" in text and "\n" not in text.strip():
        problems.append("its line ends are written as \\n: paste it with real line ends")
        text = text.replace("\\n", "\n")
    items: list[FileItem] = []
    for block in read_blocks(text):
        if len(items) == MAX_ITEMS:
            problems.append(f"more than {MAX_ITEMS} blocks; the rest was not read")
            break
        items += _items_of(block, text, problems, name, passphrase)
    _find_broken_marks(text, problems)
    form = FileForm.PEM if not items or "PKCS7" not in text else FileForm.PKCS7_AS_PEM
    return FileContents(name, form, tuple(items), tuple(dict.fromkeys(problems)))


def _items_of(block: PemBlock, text: str, problems: list[str], name: str, passphrase: Passphrase) -> list[FileItem]:
    before = {"BEGIN" if block.has_begun else "END": text[block.start - 1 : block.start]}
    if block.body:
        before["END"] = block.body[-1]
    for edge, character in before.items():
        if character not in {"", "\n", "\r", " ", "\t"}:
            words = f"-----{edge} {block.label}----- does not begin a line"
            _note(problems, f"{words}: two files were joined without a line end between them")
    if not block.has_begun:
        _note(problems, f"-----END {block.label}----- stands without its BEGIN line: {block.problem}")
        return []
    if not block.problem:
        return _read_block(block.label, block.body, name, passphrase)
    words = block.problem
    if block.is_open:
        words = f"the block at line {text.count(chr(10), 0, block.start) + 1} {words}"
    return [FileItem(FileKind.OTHER, f"{block.label} block", problem=words)]


def _find_broken_marks(text: str, problems: list[str]) -> None:
    for line in map(str.strip, text.splitlines()):
        if ("BEGIN " in line or "END " in line) and _BROKEN_MARK.match(line) and not has_marks(line):
            _note(problems, f"{line[:60]!r} is no PEM line: it takes five hyphens on each side, and no other dashes")


def _note(problems: list[str], words: str) -> None:
    if words not in problems and len(problems) < MAX_PROBLEMS:
        problems.append(words)


def _read_block(label: str, body: str, name: str, passphrase: Passphrase) -> list[FileItem]:
    if label in _KEY_LABELS:
        pem = f"-----BEGIN {label}-----{body}-----END {label}-----\n".encode()
        encrypted = label.startswith("ENCRYPTED") or "ENCRYPTED" in body
        return [_read_key(pem, encrypted, name, passphrase)]
    octets = decode_body(body)
    if octets is None:
        return [
            FileItem(
                FileKind.OTHER,
                f"{label} block",
                problem="its lines are not base64: something was pasted into it, or lost",
            )
        ]
    if label in _CERTIFICATE_LABELS:
        return [_certificate_item(_first_element(octets) if label == "TRUSTED CERTIFICATE" else octets)]
    if label in {"CERTIFICATE REQUEST", "NEW CERTIFICATE REQUEST"}:
        return [_read_request(octets)]
    if label in {"PKCS7", "CMS", "PKCS #7 SIGNED DATA"}:
        return _read_certificate_set(octets)
    if label == "X509 CRL":
        return [_read_list(octets)]
    if label == "PUBLIC KEY":
        return [FileItem(FileKind.PUBLIC_KEY, f"public key, {read_key_facts(octets)}", spki=octets)]
    if label == "OPENSSH PRIVATE KEY":
        return [FileItem(FileKind.OTHER, "OpenSSH private key", problem="a key for SSH, which no web server takes")]
    if label in {"EC PARAMETERS", "DH PARAMETERS"}:
        return [FileItem(FileKind.OTHER, label.replace("PARAMETERS", "parameters"))]
    return [FileItem(FileKind.OTHER, f"{label} block")]


def _first_element(octets: bytes) -> bytes:
    """OpenSSL's TRUSTED CERTIFICATE has its own remarks behind the certificate."""
    try:
        return DerReader(octets, "TRUSTED CERTIFICATE").next(der.SEQUENCE).octets
    except DecodeError:
        return octets


def _certificate_item(octets: bytes) -> FileItem:
    read = read_certificate(octets)
    problem = f"it cannot be read: {read.reason}" if isinstance(read, MalformedCertificate) else ""
    return FileItem(FileKind.CERTIFICATE, "certificate", certificate=read, problem=problem)


def _read_request(octets: bytes) -> FileItem:
    from cryptography import x509  # noqa: PLC0415  slow to load, and seldom needed

    try:
        request = x509.load_der_x509_csr(octets)
        spki = _spki_of(request.public_key())
    except (ValueError, x509.InvalidVersion, UnsupportedAlgorithm) as exc:
        return FileItem(FileKind.REQUEST, "certificate request", problem=f"it cannot be read: {exc}")
    return FileItem(FileKind.REQUEST, f"certificate request, {read_key_facts(spki)}", spki=spki)


def _read_list(octets: bytes) -> FileItem:
    try:
        crl = read_crl(octets)
    except DecodeError as exc:
        return FileItem(FileKind.REVOCATION_LIST, "revocation list", problem=f"it cannot be read: {exc}")
    return FileItem(FileKind.REVOCATION_LIST, f"revocation list of {crl.issuer.title}")


# Keys


def _read_key(octets: bytes, encrypted: bool, name: str, passphrase: Passphrase) -> FileItem:
    if encrypted and (words := why_too_costly(_decoded(octets))):
        return FileItem(FileKind.PRIVATE_KEY, "private key, encrypted", problem=words, is_encrypted=True)
    given = passphrase(f"the private key in {name}") if encrypted else None
    if encrypted and given is None:
        words = "it is encrypted, and no passphrase was given (--passphrase-file, or type it on a terminal)"
        return FileItem(FileKind.PRIVATE_KEY, "private key, encrypted", problem=words, is_encrypted=True)
    from cryptography.hazmat.primitives import serialization  # noqa: PLC0415  slow to load, and seldom needed

    load = serialization.load_pem_private_key if octets[:1] == b"-" else serialization.load_der_private_key
    try:
        spki = _spki_of(load(octets, given).public_key())
    except (ValueError, TypeError, UnsupportedAlgorithm) as exc:
        words = (
            "the passphrase does not open it" if encrypted else f"it cannot be read: {str(exc).splitlines()[0][:120]}"
        )
        what = "private key, encrypted" if encrypted else "private key"
        return FileItem(FileKind.PRIVATE_KEY, what, problem=words, is_encrypted=encrypted)
    return FileItem(
        FileKind.PRIVATE_KEY, f"private key, {read_key_facts(spki)}" + (", encrypted" if encrypted else ""), spki=spki
    )


def _decoded(octets: bytes) -> bytes:
    """DER as it is, or what a PEM block holds."""
    if octets[:1] == b"\x30":
        return octets
    return decode_body(octets.decode("ascii", "replace").partition("-----\n")[2].partition("-----")[0]) or b""


def _spki_of(key: object) -> bytes:
    from cryptography.hazmat.primitives import serialization  # noqa: PLC0415

    form = serialization.PublicFormat.SubjectPublicKeyInfo
    octets = key.public_bytes(serialization.Encoding.DER, form)  # type: ignore[attr-defined]
    assert isinstance(octets, bytes)
    return octets


# DER and text without marks


def _read_der(name: str, octets: bytes, passphrase: Passphrase) -> FileContents:
    if not isinstance(read_certificate(octets), MalformedCertificate):
        return FileContents(name, FileForm.DER, (_certificate_item(octets),))
    if is_certificate_set(octets):
        return FileContents(name, FileForm.PKCS7, tuple(_read_certificate_set(octets)))
    if _is_pkcs12(octets):
        return _read_pkcs12(name, octets, passphrase)
    for kind, label in (("private key", "key"), ("request", "CERTIFICATE REQUEST"), ("list", "X509 CRL")):
        if kind == "private key":
            item = _read_der_key(octets, name, passphrase)
        else:
            (item,) = _read_block(label, base64.b64encode(octets).decode("ascii"), name, passphrase)
        if not item.problem or item.is_encrypted:
            return FileContents(name, FileForm.DER, (item,))
    return FileContents(name, FileForm.DER, (_certificate_item(octets),))


def _read_der_key(octets: bytes, name: str, passphrase: Passphrase) -> FileItem:
    item = _read_key(octets, False, name, passphrase)
    if not item.problem or not _is_encrypted_pkcs8(octets):
        return item
    return _read_key(octets, True, name, passphrase)


def _is_encrypted_pkcs8(octets: bytes) -> bool:
    """EncryptedPrivateKeyInfo (RFC 5958 section 3): an algorithm, then octets; PBES2 in practice."""
    return bytes.fromhex("06092a864886f70d01050d") in octets[:40]


def _is_pkcs12(octets: bytes) -> bool:
    """PFX of version 3 (RFC 7292 section 4)."""
    try:
        version = DerReader(octets, "PFX").nested(der.SEQUENCE, "PFX")
        return der.read_integer(version.next(der.INTEGER).content, "version") == 3 and version.tag == der.SEQUENCE
    except DecodeError:
        return False


def _read_pkcs12(name: str, octets: bytes, passphrase: Passphrase) -> FileContents:
    from cryptography.hazmat.primitives.serialization import Encoding, pkcs12  # noqa: PLC0415  slow to load

    if words := why_too_costly(octets):
        return FileContents(name, FileForm.PKCS12, problems=(words,))
    store = None
    for attempt in (None, b""):
        try:
            store = pkcs12.load_pkcs12(octets, attempt)
            break
        except (ValueError, UnsupportedAlgorithm):
            continue
    if store is None:
        given = passphrase(f"the PKCS #12 file {name}")
        if given is None:
            words = "it is encrypted, and no passphrase was given (--passphrase-file, or type it on a terminal)"
            return FileContents(name, FileForm.PKCS12, problems=(words,))
        try:
            store = pkcs12.load_pkcs12(octets, given)
        except (ValueError, UnsupportedAlgorithm):
            return FileContents(
                name, FileForm.PKCS12, problems=("the passphrase does not open it, or the file is damaged",)
            )
    items: list[FileItem] = []
    if store.key is not None:
        spki = _spki_of(store.key.public_key())
        items.append(FileItem(FileKind.PRIVATE_KEY, f"private key, {read_key_facts(spki)}", spki=spki))
    entries = [*([store.cert] if store.cert is not None else []), *store.additional_certs]
    items += [_certificate_item(each.certificate.public_bytes(Encoding.DER)) for each in entries]
    return FileContents(name, FileForm.PKCS12, tuple(items))


def _read_certificate_set(octets: bytes) -> list[FileItem]:
    try:
        return list(map(_certificate_item, read_certificate_set(octets)[:MAX_ITEMS]))
    except ValueError as exc:
        return [FileItem(FileKind.OTHER, "PKCS #7", problem=f"it cannot be read: {exc}")]


def _read_bare_text(name: str, text: str, passphrase: Passphrase) -> FileContents:
    """Base64 without BEGIN and END lines is a certificate whose frame was lost in pasting."""
    octets = decode_body(text) if len(text) < 1 << 20 else None
    if octets is not None and octets[:1] == b"\x30":
        inner = _read_der(name, octets, passphrase)
        if all(not item.problem for item in inner.items):
            words = "its BEGIN and END lines are missing: servers do not read bare base64"
            return FileContents(name, FileForm.BASE64, inner.items, (words, *inner.problems))
    if text.lstrip()[:1] == "<":
        return FileContents(
            name, FileForm.HTML, problems=("a web page, not a certificate: the download gave an error page",)
        )
    return FileContents(name, FileForm.TEXT, problems=("there is no certificate and no key in this text",))
