"""Real TLS servers with stated versions and suites, and what they are then bound to accept.

What a cipher string means is not our word but that of the library's own listing: ``openssl ciphers -s -V``
and ``gnutls-cli --list``.
"""

import contextlib
import functools
import re
import socket
import subprocess
import threading
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path

from pewter.lab.authority import Issued, issue_server
from pewter.tls.suites import table
from support.certificates import FAR_OFF, LONG_AGO, intermediate, key
from support.looks import PEER
from support.servers import apache, free_port, need, nginx, running

VERSIONS = {"TLSv1": 0x0301, "TLSv1.1": 0x0302, "TLSv1.2": 0x0303, "TLSv1.3": 0x0304}
EVERYTHING = "ALL:COMPLEMENTOFALL:@SECLEVEL=0"
INTERMEDIATE = "ECDHE-ECDSA-AES128-GCM-SHA256:ECDHE-RSA-AES128-GCM-SHA256:ECDHE-ECDSA-AES256-GCM-SHA384:ECDHE-RSA-AES256-GCM-SHA384:ECDHE-ECDSA-CHACHA20-POLY1305:ECDHE-RSA-CHACHA20-POLY1305:DHE-RSA-AES128-GCM-SHA256:DHE-RSA-AES256-GCM-SHA384"
OLD = "ECDHE+AES:DHE+AES:kRSA+AES:kRSA+CAMELLIA:@SECLEVEL=0"
_OLD_TLS = ("TLSv1", "TLSv1.1", "TLSv1.2")


@dataclass(frozen=True)
class Setting:
    """How one server is set up."""

    server: str
    versions: tuple[str, ...]
    ciphers: str
    keys: tuple[str, ...] = ("RSA 2048",)
    server_order: bool | None = None
    """None where it is left to the server."""

    finite_field: bool = True
    """DHE suites can come about."""

    options: tuple[str, ...] = ()

    @property
    def title(self) -> str:
        ciphers = self.ciphers if len(self.ciphers) < 40 else self.ciphers[:37] + "..."
        return f"{self.server} {'+'.join(self.versions)} {ciphers} {'+'.join(self.keys)}"


SETTINGS = (
    Setting("s_server", ("TLSv1.2", "TLSv1.3"), "DEFAULT"),
    Setting("s_server", ("TLSv1", "TLSv1.1", "TLSv1.2", "TLSv1.3"), EVERYTHING, server_order=True, options=("-serverpref",)),
    Setting("s_server", ("TLSv1.2",), "ECDHE+AESGCM", ("P-256",), True, options=("-serverpref", "-tls1_2")),
    Setting("s_server", ("TLSv1.1",), "AES128-SHA:AES256-SHA:@SECLEVEL=0", options=("-tls1_1",)),
    Setting("s_server", ("TLSv1",), "kRSA:@SECLEVEL=0", options=("-tls1",)),
    Setting("nginx", ("TLSv1.2", "TLSv1.3"), INTERMEDIATE, ("RSA 2048", "P-256"), True, finite_field=False),
    Setting("nginx", ("TLSv1.2", "TLSv1.3"), "HIGH:!aNULL", server_order=False, finite_field=False),
    Setting("nginx", _OLD_TLS, EVERYTHING, ("RSA 2048", "P-256"), True, finite_field=False),
    Setting("nginx", ("TLSv1.3",), "HIGH", finite_field=False),
    Setting("apache", ("TLSv1.2", "TLSv1.3"), INTERMEDIATE, server_order=True),
    Setting("apache", _OLD_TLS, OLD, server_order=False),
    Setting("haproxy", ("TLSv1.2", "TLSv1.3"), INTERMEDIATE, ("P-256",), server_order=True, finite_field=False),
    Setting("haproxy", ("TLSv1", "TLSv1.1", "TLSv1.2"), OLD, finite_field=False, server_order=True),
    Setting("stunnel", ("TLSv1.2", "TLSv1.3"), "ECDHE+AESGCM:ECDHE+CHACHA20"),
    Setting("stunnel", _OLD_TLS, OLD),
    Setting("gnutls-serv", ("TLSv1.2", "TLSv1.3"), "NORMAL:-VERS-ALL:+VERS-TLS1.2:+VERS-TLS1.3"),
    Setting("gnutls-serv", _OLD_TLS, "LEGACY:-VERS-ALL:+VERS-TLS1.0:+VERS-TLS1.1:+VERS-TLS1.2:+3DES-CBC:+ARCFOUR-128:%SERVER_PRECEDENCE", server_order=True),
    Setting("gnutls-serv", ("TLSv1.3",), "NORMAL:-VERS-ALL:+VERS-TLS1.3:-CIPHER-ALL:+AES-256-GCM:+AES-128-CCM", ("P-256",)),
    Setting("tlslite-ng", ("TLSv1.2", "TLSv1.3"), "aes128gcm aes256 chacha20-poly1305"),
    Setting("tlslite-ng", ("SSLv3", "TLSv1", "TLSv1.1", "TLSv1.2"), "aes128gcm aes128 3des rc4 null"),
)  # fmt: skip


@dataclass
class Expected:
    """Suites by version, in the library's listing order."""

    suites: dict[int, list[int]] = field(default_factory=dict)


def expected_of(setting: Setting) -> Expected:
    if setting.server == "gnutls-serv":
        return _expected_of_gnutls(setting)
    if setting.server == "tlslite-ng":
        return _expected_of_tlslite(setting)
    found = Expected()
    kinds = {"RSA" if kind.startswith("RSA") else "ECDSA" for kind in setting.keys}
    for version in setting.versions:
        codes = _openssl_listing(version, setting.ciphers)
        if version == "TLSv1.3":
            found.suites[VERSIONS[version]] = [code for code in codes if code >> 8 == 0x13]
            continue
        found.suites[VERSIONS[version]] = [
            code
            for code in codes
            if code >> 8 != 0x13
            and table()[code].authentication in {*kinds, "none"}
            and (setting.finite_field or table()[code].key_exchange != "DHE")
        ]
    return found


@functools.cache
def _openssl_listing(version: str, ciphers: str) -> tuple[int, ...]:
    flag = "-" + version.lower().replace("tlsv", "tls").replace(".", "_")
    listed = subprocess.run(
        [need("openssl"), "ciphers", "-s", flag, "-V", ciphers], capture_output=True, text=True, check=True
    )
    return tuple(int(high + low, 16) for high, low in re.findall(r"0x([0-9A-F]{2}),0x([0-9A-F]{2}) - ", listed.stdout))


def _expected_of_gnutls(setting: Setting) -> Expected:
    listed = subprocess.run(
        [need("gnutls-cli"), "--list", "--priority", setting.ciphers], capture_output=True, text=True
    ).stdout
    rows = re.findall(r"0x([0-9a-f]{2}), 0x([0-9a-f]{2})\s+(SSL3\.0|TLS1\.[0-3])", listed)
    kinds = {"RSA" if kind.startswith("RSA") else "ECDSA" for kind in setting.keys}
    found = Expected()
    for version in setting.versions:
        number = VERSIONS[version]
        codes = []
        for high, low, since in rows:
            code = int(high + low, 16)
            is_1_3 = since == "TLS1.3"
            first = 0x0300 if since == "SSL3.0" else 0x0301 + int(since[-1])
            if is_1_3 == (number == 0x0304) and first <= number:
                suite = table()[code]
                if is_1_3 or suite.authentication in kinds:
                    codes.append(code)
        found.suites[number] = codes
    return found


_TLSLITE = {
    "aes128gcm": (0xC02F, 0x009E, 0x009C),
    "aes128": (0xC027, 0xC013, 0x0067, 0x0033, 0x003C, 0x002F),
    "aes256": (0xC014, 0x006B, 0x0039, 0x003D, 0x0035, 0xC028),
    "chacha20-poly1305": (0xCCA8, 0xCCAA),
    "3des": (0xC012, 0x0016, 0x000A),
    "rc4": (0xC011, 0x0005, 0x0004),
    "null": (0xC010, 0x0002, 0x0001, 0x003B),
}


def _expected_of_tlslite(setting: Setting) -> Expected:
    """Read from the library's own tables of suites."""
    settings = _tlslite_settings(setting)
    from tlslite.constants import CipherSuite

    found = Expected()
    for version in setting.versions:
        minor = {"SSLv3": 0, "TLSv1": 1, "TLSv1.1": 2, "TLSv1.2": 3, "TLSv1.3": 4}[version]
        number = (3, minor)
        if minor == 4:
            codes = CipherSuite.getTLS13Suites(settings, number)
        else:
            # SSL 3.0 has no extensions, but this library takes ECDHE suites there with its own default curve.
            codes = list(CipherSuite.getEcdheCertSuites(settings, number))
            codes += CipherSuite.getDheCertSuites(settings, number) + CipherSuite.getCertSuites(settings, number)
            codes = CipherSuite.filterForVersion(codes, number, number)
        found.suites[0x0300 + minor] = list(codes)
    return found


def _tlslite_settings(setting: Setting):
    from tlslite.api import HandshakeSettings

    minors = [
        {"SSLv3": 0, "TLSv1": 1, "TLSv1.1": 2, "TLSv1.2": 3, "TLSv1.3": 4}[version] for version in setting.versions
    ]
    settings = HandshakeSettings()
    settings.minVersion, settings.maxVersion = (3, min(minors)), (3, max(minors))
    settings.cipherNames = setting.ciphers.split()
    settings.macNames = ["sha", "sha256", "sha384", "aead", "md5"]
    settings.versions = [(3, minor) for minor in sorted(minors, reverse=True)]
    return settings.validate()


# Starting them


def install(folder: Path, kinds: tuple[str, ...]) -> list[Issued]:
    made = [issue_server([PEER], intermediate(), LONG_AGO, FAR_OFF, key=key(f"server {kind}", kind)) for kind in kinds]
    for number, issued in enumerate(made):
        (folder / f"full{number}.pem").write_bytes(issued.pem + intermediate().pem)
        (folder / f"key{number}.pem").write_bytes(issued.key_pem)
        (folder / f"all{number}.pem").write_bytes(issued.pem + intermediate().pem + issued.key_pem)
    return made


@contextlib.contextmanager
def started(setting: Setting, folder: Path) -> Iterator[int]:
    """The server on a port of its own."""
    install(folder, setting.keys)
    port = free_port()
    with _STARTERS[setting.server](setting, folder, port):
        yield port


@contextlib.contextmanager
def _s_server(setting: Setting, folder: Path, port: int) -> Iterator[None]:
    command = [
        need("openssl"),
        "s_server",
        "-accept",
        str(port),
        "-cert",
        "full0.pem",
        "-cert_chain",
        "full0.pem",
        "-key",
        "key0.pem",
    ]
    page = () if "-early_data" in setting.options else ("-www",)
    with running([*command, "-cipher", setting.ciphers, *page, "-quiet", *setting.options], port, folder):
        yield


@contextlib.contextmanager
def _nginx(setting: Setting, folder: Path, port: int) -> Iterator[None]:
    pairs = " ".join(
        f"ssl_certificate {folder}/full{n}.pem; ssl_certificate_key {folder}/key{n}.pem;"
        for n in range(len(setting.keys))
    )
    order = "on" if setting.server_order else "off"
    block = (
        f"server {{ listen 127.0.0.1:{port} ssl; {pairs} ssl_protocols {' '.join(setting.versions)};\n"
        f"ssl_ciphers {setting.ciphers}; ssl_prefer_server_ciphers {order}; {' '.join(setting.options)} location / {{ return 200 ok; }} }}"
    )
    with nginx(folder, block, port):
        yield


@contextlib.contextmanager
def _apache(setting: Setting, folder: Path, port: int) -> Iterator[None]:
    pairs = "\n".join(
        f"SSLCertificateFile {folder}/full{n}.pem\nSSLCertificateKeyFile {folder}/key{n}.pem"
        for n in range(len(setting.keys))
    )
    configuration = (
        f"Listen 127.0.0.1:{port}\nSSLEngine on\n{pairs}\nSSLProtocol -all {' '.join('+' + v for v in setting.versions)}\n"
        f"SSLCipherSuite {setting.ciphers}\nSSLHonorCipherOrder {'on' if setting.server_order else 'off'}\n"
    )
    with apache(folder, configuration, port):
        yield


@contextlib.contextmanager
def _haproxy(setting: Setting, folder: Path, port: int) -> Iterator[None]:
    low, high = (
        each.replace("TLSv1", "TLSv1.0") if each == "TLSv1" else each
        for each in (setting.versions[0], setting.versions[-1])
    )
    (folder / "haproxy.cfg").write_text(
        "global\n  maxconn 256\ndefaults\n  mode http\n  timeout client 5s\n  timeout server 5s\n  timeout connect 5s\n"
        f"frontend f\n  bind 127.0.0.1:{port} ssl crt {folder}/all0.pem ssl-min-ver {low} ssl-max-ver {high} ciphers {setting.ciphers}\n"
        "  http-request return status 200\n"
    )
    with running([need("haproxy"), "-db", "-f", "haproxy.cfg"], port, folder):
        yield


@contextlib.contextmanager
def _stunnel(setting: Setting, folder: Path, port: int) -> Iterator[None]:
    (folder / "stunnel.conf").write_text(
        f"foreground = yes\npid =\n[x]\naccept = 127.0.0.1:{port}\nconnect = 127.0.0.1:9\ncert = {folder}/full0.pem\nkey = {folder}/key0.pem\n"
        f"ciphers = {setting.ciphers}\nsslVersionMin = {setting.versions[0]}\nsslVersionMax = {setting.versions[-1]}\n"
    )
    with running([need("stunnel4"), "stunnel.conf"], port, folder):
        yield


@contextlib.contextmanager
def _gnutls(setting: Setting, folder: Path, port: int) -> Iterator[None]:
    command = [
        need("gnutls-serv"),
        "--port",
        str(port),
        "--x509certfile",
        "full0.pem",
        "--x509keyfile",
        "key0.pem",
        "--http",
    ]
    with running([*command, "--priority", setting.ciphers, "--disable-client-cert"], port, folder):
        yield


@contextlib.contextmanager
def _tlslite(setting: Setting, folder: Path, port: int) -> Iterator[None]:
    """tlslite-ng, a TLS library in Python that still has SSL 3.0 and RC4, in a thread."""
    from tlslite.api import TLSConnection, X509CertChain, parsePEMKey

    chain = X509CertChain()
    chain.parsePemList((folder / "full0.pem").read_text())
    private = parsePEMKey((folder / "key0.pem").read_text(), private=True)
    settings = _tlslite_settings(setting)
    with socket.create_server(("127.0.0.1", port), backlog=128) as listener:

        def serve(connection: socket.socket) -> None:
            with contextlib.suppress(Exception), connection:
                connection.settimeout(5)
                TLSConnection(connection).handshakeServer(certChain=chain, privateKey=private, settings=settings)

        def accept() -> None:
            with contextlib.suppress(OSError):
                while True:
                    threading.Thread(target=serve, args=(listener.accept()[0],), daemon=True).start()

        threading.Thread(target=accept, daemon=True).start()
        yield
        listener.shutdown(socket.SHUT_RDWR)


_STARTERS = {
    "s_server": _s_server,
    "nginx": _nginx,
    "apache": _apache,
    "haproxy": _haproxy,
    "stunnel": _stunnel,
    "gnutls-serv": _gnutls,
    "tlslite-ng": _tlslite,
}
