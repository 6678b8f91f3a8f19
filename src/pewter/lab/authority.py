"""A private certificate authority for the simulated world and for tests: the fault is stated in the call."""

import datetime
import ipaddress
from collections.abc import Sequence
from dataclasses import dataclass, field

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec, ed448, ed25519, padding, rsa
from cryptography.x509.oid import AuthorityInformationAccessOID, ExtendedKeyUsageOID, NameOID

PrivateKey = rsa.RSAPrivateKey | ec.EllipticCurvePrivateKey | ed25519.Ed25519PrivateKey | ed448.Ed448PrivateKey

DAY = datetime.timedelta(days=1)


@dataclass(frozen=True)
class Issued:
    """A certificate and its key."""

    certificate: x509.Certificate
    key: PrivateKey

    @property
    def der(self) -> bytes:
        return self.certificate.public_bytes(serialization.Encoding.DER)

    @property
    def pem(self) -> bytes:
        return self.certificate.public_bytes(serialization.Encoding.PEM)

    @property
    def key_pem(self) -> bytes:
        return self.key.private_bytes(
            serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
        )


Extra = tuple[x509.ExtensionType, bool]
"""One more extension, and whether it is critical."""


@dataclass(frozen=True)
class SignedWith:
    """How a certificate is signed; the fault is another key than the issuer's."""

    hash_algorithm: hashes.SHA256 | hashes.SHA384 | hashes.SHA512 = field(default_factory=hashes.SHA256)
    pss: bool = False
    key: PrivateKey | None = None


PLAINLY = SignedWith()


def make_key(kind: str = "P-256") -> PrivateKey:
    """A fresh key: ``RSA 2048``, ``P-256``, ``P-384``, ``P-521``, ``Ed25519`` or ``Ed448``."""
    match kind.split():
        case ["RSA", bits]:
            return rsa.generate_private_key(65537, int(bits))
        case ["P-256"]:
            return ec.generate_private_key(ec.SECP256R1())
        case ["P-384"]:
            return ec.generate_private_key(ec.SECP384R1())
        case ["P-521"]:
            return ec.generate_private_key(ec.SECP521R1())
        case ["Ed25519"]:
            return ed25519.Ed25519PrivateKey.generate()
        case ["Ed448"]:
            return ed448.Ed448PrivateKey.generate()
        case _:
            raise ValueError(f"no key of kind {kind!r}")


def issue_ca(
    title: str,
    issuer: Issued | None,
    not_before: datetime.datetime,
    not_after: datetime.datetime,
    *,
    organization: str = "Skerry Trust",
    key: PrivateKey | None = None,
    is_ca: bool = True,
    path_length: int | None = None,
    key_cert_sign: bool | None = True,
    crl_sign: bool = True,
    purposes: Sequence[x509.ObjectIdentifier] = (),
    permitted_dns: Sequence[str] = (),
    has_basic_constraints: bool = True,
    ca_issuers: str | None = None,
    extra: Sequence[Extra] = (),
    signed_with: SignedWith = PLAINLY,
) -> Issued:
    """A CA certificate; without ``issuer`` a root.  The options state how it departs from a good one."""
    key = key or make_key()
    subject = x509.Name(
        [x509.NameAttribute(NameOID.ORGANIZATION_NAME, organization), x509.NameAttribute(NameOID.COMMON_NAME, title)]
    )
    builder = _builder(subject, issuer, key, not_before, not_after)
    if has_basic_constraints:
        builder = builder.add_extension(x509.BasicConstraints(is_ca, path_length if is_ca else None), critical=True)
    if key_cert_sign is not None:
        builder = builder.add_extension(_key_usage(sign_certificates=key_cert_sign, sign_crls=crl_sign), critical=True)
    if purposes:
        builder = builder.add_extension(x509.ExtendedKeyUsage(purposes), critical=False)
    if permitted_dns:
        constraints = x509.NameConstraints([x509.DNSName(base) for base in permitted_dns], None)
        builder = builder.add_extension(constraints, critical=True)
    for extension, critical in extra:
        builder = builder.add_extension(extension, critical)
    return _sign(_with_access(builder, ca_issuers), issuer, key, signed_with)


def issue_server(
    names: Sequence[str],
    issuer: Issued | None,
    not_before: datetime.datetime,
    not_after: datetime.datetime,
    *,
    key: PrivateKey | None = None,
    common_name: str | None = None,
    purposes: Sequence[x509.ObjectIdentifier] = (ExtendedKeyUsageOID.SERVER_AUTH,),
    ca_issuers: str | None = None,
    ocsp: str | None = None,
    crl: str | None = None,
    names_critical: bool = False,
    extra: Sequence[Extra] = (),
    signed_with: SignedWith = PLAINLY,
) -> Issued:
    """A server's certificate for DNS names and IP addresses; without ``issuer`` self-signed."""
    key = key or make_key()
    title = common_name if common_name is not None else next(iter(names), "")
    subject = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, title)] if title else [])
    builder = _builder(subject, issuer, key, not_before, not_after)
    if names:
        alternatives = x509.SubjectAlternativeName(list(map(_general_name, names)))
        builder = builder.add_extension(alternatives, critical=names_critical)
    if purposes:
        builder = builder.add_extension(x509.ExtendedKeyUsage(purposes), critical=False)
    for extension, critical in extra:
        builder = builder.add_extension(extension, critical)
    if crl is not None:
        point = x509.DistributionPoint([x509.UniformResourceIdentifier(crl)], None, None, None)
        builder = builder.add_extension(x509.CRLDistributionPoints([point]), critical=False)
    return _sign(_with_access(builder, ca_issuers, ocsp), issuer, key, signed_with)


def _builder(
    subject: x509.Name,
    issuer: Issued | None,
    key: PrivateKey,
    not_before: datetime.datetime,
    not_after: datetime.datetime,
) -> x509.CertificateBuilder:
    issuer_key = issuer.key if issuer is not None else key
    return (
        x509.CertificateBuilder()
        .subject_name(subject)
        .issuer_name(issuer.certificate.subject if issuer is not None else subject)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(not_before)
        .not_valid_after(not_after)
        .add_extension(x509.SubjectKeyIdentifier.from_public_key(key.public_key()), critical=False)
        .add_extension(x509.AuthorityKeyIdentifier.from_issuer_public_key(issuer_key.public_key()), critical=False)
    )


def _sign(builder: x509.CertificateBuilder, issuer: Issued | None, key: PrivateKey, how: SignedWith) -> Issued:
    signer = how.key or (issuer.key if issuer is not None else key)
    pure = isinstance(signer, ed25519.Ed25519PrivateKey | ed448.Ed448PrivateKey)
    algorithm = None if pure else how.hash_algorithm
    pss = padding.PSS(padding.MGF1(how.hash_algorithm), how.hash_algorithm.digest_size) if how.pss else None
    return Issued(builder.sign(signer, algorithm, rsa_padding=pss), key)


def _with_access(
    builder: x509.CertificateBuilder, ca_issuers: str | None, ocsp: str | None = None
) -> x509.CertificateBuilder:
    methods = ((AuthorityInformationAccessOID.OCSP, ocsp), (AuthorityInformationAccessOID.CA_ISSUERS, ca_issuers))
    found = [x509.AccessDescription(method, x509.UniformResourceIdentifier(url)) for method, url in methods if url]
    return builder.add_extension(x509.AuthorityInformationAccess(found), critical=False) if found else builder


def _key_usage(*, sign_certificates: bool, sign_crls: bool) -> x509.KeyUsage:
    return x509.KeyUsage(
        digital_signature=True,
        content_commitment=False,
        key_encipherment=False,
        data_encipherment=False,
        key_agreement=False,
        key_cert_sign=sign_certificates,
        crl_sign=sign_crls,
        encipher_only=False,
        decipher_only=False,
    )


def _general_name(name: str) -> x509.GeneralName:
    try:
        return x509.IPAddress(ipaddress.ip_address(name))
    except ValueError:
        return x509.DNSName(name)
