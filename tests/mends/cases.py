"""Rule by rule: the fault, for every kind of server on which it can be made."""

from dataclasses import dataclass, field

from mends.bases import OTHER
from pewter.mends.kinds import Kind

N, A, H, C, L = Kind.NGINX, Kind.APACHE, Kind.HAPROXY, Kind.CADDY, Kind.LIGHTTPD
ALL = (N, A, H, C, L)

PLAIN = {
    N: "server { listen 80; listen [::]:80; server_name mend.example; location / { proxy_pass http://127.0.0.1:8000; proxy_set_header Host $host; proxy_set_header X-Base-Scheme $scheme; } }",
    A: "<VirtualHost *:80>\nServerName mend.example\nRequestHeader set X-Base-Scheme http\nProxyPreserveHost On\nProxyPass / http://127.0.0.1:8000/\n</VirtualHost>",
    H: "frontend plain\n    bind :::80 v4v6\n    @@plain@@\n    http-request set-header X-Base-Scheme http\n    default_backend application",
    C: "http://mend.example {\n    reverse_proxy 127.0.0.1:8000 {\n        header_up X-Base-Scheme http\n    }\n}",
    L: '$SERVER["socket"] == "[::]:80" { }',
}  # fmt: skip
"""Port 80, passed to the application."""

STS = "Strict-Transport-Security"


@dataclass(frozen=True)
class Case:
    rule: str
    title: str
    behaviour: str = "year"
    kinds: tuple[Kind, ...] = ALL
    faults: dict[Kind, dict[str, str]] = field(default_factory=dict)
    """Of the configuration: what stands in the slots of its base."""

    canonical: bool = False
    """www is the canonical host, and under review too."""

    declared: bool = True
    """The canonical host is given; else worked out."""

    paths: tuple[str, ...] = ("/",)
    opens: frozenset[str] = frozenset()
    """Rules that may be left open by these lines, as their text says."""

    chain: str = "full.pem"
    words: str = ""
    """What is done by hand where the mend is told in words."""

    @property
    def name(self) -> str:
        return f"{self.rule} {self.title}"


SHORT = frozenset({"hsts/short", "hsts/no-subdomains"})
UNSEEN = frozenset(
    {
        "reach/unknown-host",
        "hsts/no-subdomains",
        "redirect/reflects-host",
        "page/names-version",
        "protocol/no-hybrid-group",
        "protocol/no-h2",
    }
)
"""What could not be seen as long as nobody got in."""


def faulty(slot: str, **lines: str) -> dict[Kind, dict[str, str]]:
    names = {"nginx": N, "apache": A, "haproxy": H, "caddy": C, "lighttpd": L}
    return {names[name]: {slot: f"<<fault\n{text}\nfault>>"} for name, text in lines.items()}


def in_line(**lines: str) -> dict[Kind, dict[str, str]]:
    names = {"haproxy": H}
    return {names[name]: {"bind": f"<<fault {text} fault>>"} for name, text in lines.items()}


WEAK = "ALL:@SECLEVEL=0"
OLD = "TLSv1 TLSv1.1 TLSv1.2 TLSv1.3"
TRUST = "/etc/ssl/certs/ca-certificates.crt"

CASES: tuple[Case, ...] = (
    Case("redirect/missing", "application", "content"),
    Case("redirect/partial", "application", "partial", paths=("/", "/login")),
    Case("redirect/temporary", "application", "temporary"),
    Case("redirect/temporary", "to-canonical", "temporary-landing", canonical=True),
    Case("redirect/wrong-place", "stays", "year", canonical=True),
    Case("redirect/no-canonical", "same-page", "year", canonical=True, declared=False),
    Case("redirect/drops-path", "application", "drops", paths=("/", "/login?next=1")),
    Case("redirect/by-page", "application", "by-page"),
    Case("redirect/plain-hop", "application", "plain-hop"),
    Case("redirect/host-before-https", "application", "straight", canonical=True),
    Case("redirect/reflects-host", "application", "year", kinds=(N, A, H, L), faults=faulty("reflect", haproxy="")),
    Case("redirect/downgrade", "application", "downgrade", kinds=(N, A, H), opens=frozenset({"hsts/absent"})),
    Case("redirect/downgrade", "application", "downgrade", kinds=(C,), faults=faulty("passing", caddy="header_up X-Forwarded-Proto http")),
    Case("redirect/loop", "application", "circle", kinds=(N, A, H), opens=UNSEEN | {"hsts/absent"}),
    Case("reach/port-80", "nobody-listens", "year", kinds=(N, A, H, L), faults={N: {"plain": ""}, A: {"plain": "", "listens": "Listen 443"}, H: {"plain": ""}, L: {"plain": "", "port": "8081"}}),
    Case("hsts/absent", "application-without", "none", opens=SHORT),
    Case("hsts/short", "application", "short"),
    Case("hsts/short", "own-lines", "none", kinds=(N, A, C), faults=faulty("secure", nginx=f'add_header {STS} "max-age=60" always;', apache=f'Header always set {STS} "max-age=60"', caddy=f'header {STS} "max-age=60"')),
    Case("hsts/zero", "application", "zero", opens=SHORT),
    Case("hsts/invalid", "application", "invalid", opens=SHORT),
    Case("hsts/twice", "application", "twice", opens=SHORT),
    Case("hsts/uneven", "application", "uneven", paths=("/", "/login")),
    Case("hsts/over-http", "application", "unsafe-http"),
    Case("hsts/no-subdomains", "application", "year"),
    Case("hsts/apex-never-seen", "redirect-without", "apex-bare", canonical=True, opens=frozenset({"hsts/short"})),
    Case("page/blocked-content", "policy-that-is-there", "blocked"),
    Case("date/expired", "renewed-file", chain="expired.pem", words="renew", opens=UNSEEN),
    Case("name/not-covered", "new-certificate", chain="other.pem", words="renew", opens=UNSEEN),
    Case("redirect/loop", "application", "circle", kinds=(C,), faults=faulty("passing", caddy="header_up X-Forwarded-Proto http"), opens=UNSEEN | {"hsts/absent"}),
    Case("redirect/reflects-host", "own-redirect", kinds=(C,), faults={C: {"plain": ""}}),
    Case("protocol/no-h2", "turned-off", kinds=(C, L), faults=faulty("general", caddy="servers {\nprotocols h1\n}", lighttpd='server.feature-flags = ( "server.h2proto" => "disable" )')),
    Case("page/names-version", "default", kinds=(L,)),
    Case(
        "protocol/nothing-in-common", "x448-alone", kinds=(N, A, H, L), opens=UNSEEN,
        faults={
            N: {"general": "<<fault\nssl_ecdh_curve X448;\nfault>>"},
            A: {"general": "<<fault\nSSLOpenSSLConfCmd Groups X448\nfault>>"},
            H: {"bind": "<<fault curves X448 fault>>"},
            L: {"secure": '<<fault\nssl.openssl.ssl-conf-cmd = ( "Curves" => "X448" )\nfault>>'},
        },
    ),
    Case(
        "protocol/cbc-only", "cbc", kinds=(C,),
        faults={C: {"tls": "protocols tls1.2 tls1.2\n<<fault\nciphers TLS_ECDHE_RSA_WITH_AES_128_CBC_SHA\nfault>>"}},
    ),
    Case(
        "protocol/client-decides", "client", kinds=(H,),
        faults={H: {"bind": "ciphers ECDHE-RSA-AES256-GCM-SHA384:ECDHE-RSA-AES128-GCM-SHA256:ECDHE-RSA-AES128-SHA256 <<fault prefer-client-ciphers fault>>"}},
    ),
    Case("cookie/over-http", "application", "cookie-http"),
    Case("cookie/not-secure", "application", "cookie", kinds=(N, A, H, C)),
    Case("cookie/not-http-only", "application", "cookie", kinds=(N, A, H, C)),
    Case("cookie/same-site", "application", "cookie", kinds=(N, A, H, C)),
    Case("cookie/none-not-secure", "application", "cookie-none", kinds=(N, A, H, C)),
    Case("page/no-upgrade-policy", "policy-that-is-there", "blocked"),
    Case("page/names-version", "application", "named", kinds=(N, A, H, C)),
    Case(
        "protocol/obsolete", "old-versions",
        faults={
            N: {"versions": "", "general": f"ssl_ciphers {WEAK};\n<<fault\nssl_protocols {OLD};\nfault>>"},
            A: {"general": f"SSLCipherSuite {WEAK}\n<<fault\nSSLProtocol all -SSLv3\nfault>>"},
            H: {"bind": f"ciphers {WEAK} <<fault ssl-min-ver TLSv1.0 fault>>"},
            L: {"secure": f'ssl.openssl.ssl-conf-cmd = ( "CipherString" => "{WEAK}" )\n<<fault\nssl.openssl.ssl-conf-cmd += ( "MinProtocol" => "TLSv1" )\nfault>>'},
        },
        kinds=(N, A, H, L),
    ),
    Case(
        "protocol/no-tls13", "without",
        faults={
            N: {"versions": "", "general": "<<fault\nssl_protocols TLSv1.2;\nfault>>"},
            A: {"general": "<<fault\nSSLProtocol -all +TLSv1.2\nfault>>"},
            H: {"bind": "<<fault ssl-max-ver TLSv1.2 fault>>"},
            C: {"tls": "<<fault\nprotocols tls1.2 tls1.2\nfault>>"},
            L: {"secure": '<<fault\nssl.openssl.ssl-conf-cmd = ( "MinProtocol" => "TLSv1.2", "MaxProtocol" => "TLSv1.2" )\nfault>>'},
        },
        opens=frozenset({"protocol/no-hybrid-group"}),
    ),
    Case(
        "protocol/no-forward-secrecy", "static-rsa",
        faults={
            N: {"general": "<<fault\nssl_ciphers HIGH:!aNULL;\nfault>>"},
            A: {"general": "<<fault\nSSLCipherSuite HIGH:!aNULL\nfault>>"},
            H: {"bind": "<<fault ciphers HIGH:!aNULL fault>>"},
            L: {"secure": '<<fault\nssl.openssl.ssl-conf-cmd += ( "CipherString" => "HIGH:!aNULL" )\nfault>>'},
        },
        kinds=(N, A, H, L),
    ),
    Case(
        "protocol/weak-suites", "everything",
        faults={
            N: {"general": f"<<fault\nssl_ciphers {WEAK};\nfault>>"},
            H: {"bind": f"<<fault ciphers {WEAK} fault>>"},
        },
        kinds=(N, H),
    ),
    Case(
        "protocol/cbc-only", "cbc",
        faults={
            N: {"versions": "ssl_protocols TLSv1.2;", "general": "<<fault\nssl_ciphers ECDHE-RSA-AES128-SHA256;\nfault>>"},
            A: {"general": "SSLProtocol -all +TLSv1.2\n<<fault\nSSLCipherSuite ECDHE-RSA-AES128-SHA256\nfault>>"},
            H: {"bind": "ssl-max-ver TLSv1.2 <<fault ciphers ECDHE-RSA-AES128-SHA256 fault>>"},
        },
        kinds=(N, A, H),
    ),
    Case(
        "protocol/client-decides", "client",
        faults={
            N: {"general": "ssl_ciphers ECDHE-RSA-AES128-SHA256:ECDHE-RSA-AES128-GCM-SHA256;\n<<fault\nssl_prefer_server_ciphers off;\nfault>>"},
            A: {"general": "SSLCipherSuite ECDHE-RSA-AES256-GCM-SHA384:ECDHE-RSA-AES128-GCM-SHA256:ECDHE-RSA-AES128-SHA256\n<<fault\nSSLHonorCipherOrder off\nfault>>"},
        },
        kinds=(N, A),
    ),
    Case("protocol/no-h2", "http-1.1", kinds=(A, H), faults=faulty("secure", apache="Protocols http/1.1")),
    Case("protocol/no-h2", "http-1.1", kinds=(N,), faults={N: {"listen": "<<fault\nlisten 443 ssl; listen [::]:443 ssl;\nfault>>"}}),
    Case(
        "protocol/early-data", "0-rtt", kinds=(N, H),
        faults={N: {"general": "<<fault\nssl_early_data on;\nfault>>"}, H: {"bind": "<<fault allow-0rtt fault>>"}},
    ),
    Case("chain/incomplete", "leaf-alone", chain="leaf.pem", words="add-intermediate", canonical=True, opens=UNSEEN),
    Case("reach/unknown-host", "any-name", "year", kinds=(N, A, H, L)),
    Case(
        "chain/default-differs", "other-name-first", kinds=(N, H),
        faults={N: {"general": OTHER["nginx"], "other": ""}, H: {"engine": "ssl crt {folder}/landing.pem crt {folder}/{chain}"}},
    ),
    Case(
        "reach/client-certificate", "demanded",
        faults={
            N: {"secure": f"ssl_client_certificate {TRUST};\n<<fault\nssl_verify_client on;\nfault>>"},
            A: {"secure": f"SSLCACertificateFile {TRUST}\n<<fault\nSSLVerifyClient require\nfault>>"},
            H: {"bind": f"<<fault ca-file {TRUST} verify required fault>>"},
        },
        kinds=(N, A, H),
        opens=UNSEEN,
    ),
    Case(
        "reach/not-tls", "plain-on-443", kinds=(N, A),
        faults={N: {"listen": "<<fault\nlisten 443; listen [::]:443;\nfault>>", "other": ""}, A: {"engine": "", "other": "", "listens": "Listen 80\nListen 443 http"}},
        opens=UNSEEN,
    ),
)  # fmt: skip
