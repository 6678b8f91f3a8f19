"""Ways in, cookies and HSTS on nginx and Apache httpd with ordinary configurations."""

import pytest

from pewter.expectations import Terms
from pewter.facts.browsers import Prediction
from pewter.facts.case import Case
from pewter.facts.visits import predict_visits
from pewter.judge.outcomes import Gap
from pewter.judge.rules import cookie, hsts, page, redirect
from pewter.lab.authority import issue_server
from support.cases import outcomes
from support.certificates import FAR_OFF, LONG_AGO, intermediate, key, root, store
from support.looks import PEER, at_ports, take
from support.servers import apache, free_port, nginx

pytestmark = pytest.mark.real_server

HTML = "<!doctype html><title>x</title><h1>page</h1><a href=/user/login>Log in</a>"


def prepare(folder):
    issued = issue_server([PEER], intermediate(), LONG_AGO, FAR_OFF, key=key("leaf"))
    (folder / "fullchain.pem").write_bytes(issued.pem + intermediate().pem)
    (folder / "leaf.key").write_bytes(issued.key_pem)
    (folder / "htdocs" / "user").mkdir(parents=True)
    (folder / "htdocs" / "index.html").write_text(HTML)
    (folder / "htdocs" / "user" / "login").write_text("<h1>Log in</h1>")


def gaps(plain: int, secure: int) -> tuple[set[str], Case]:
    evidence = take(routes=at_ports(secure, plain), paths=("/", "/deep/page?a=b"))
    case = Case(evidence, Terms(), evidence.begun, (store(root()),))
    rules = (*redirect.RULES, *hsts.RULES, *cookie.RULES, *page.RULES)
    return {rule.name for rule in rules for outcome in outcomes(rule, case) if isinstance(outcome, Gap)}, case


HSTS = "Strict-Transport-Security"
TLS = "SSLEngine on\nSSLCertificateFile {folder}/fullchain.pem\nSSLCertificateKeyFile {folder}/leaf.key\nDocumentRoot {folder}/htdocs"


@pytest.mark.parametrize(
    ("plain", "secure", "expected"),
    [
        pytest.param(f"Redirect permanent / https://{PEER}/", f'Header always set {HSTS} "max-age=31536000"', set(), id="redirect-permanent"),
        pytest.param(f"Redirect / https://{PEER}/", f'Header always set {HSTS} "max-age=31536000"', {"redirect/temporary"}, id="redirect"),
        pytest.param("RewriteEngine on\nRewriteRule ^ https://%{HTTP_HOST}%{REQUEST_URI} [R=301,L]", f'Header always set {HSTS} "max-age=31536000"', {"redirect/reflects-host"}, id="rewrite-reflects-host"),
        pytest.param(f"RewriteEngine on\nRewriteRule ^/$ https://{PEER}/ [R=301,L]\nDocumentRoot {{folder}}/htdocs", f'Header always set {HSTS} "max-age=31536000"', {"redirect/partial"}, id="front-page-only"),
        pytest.param(f"Redirect permanent / https://{PEER}/\nHeader always set {HSTS} max-age=31536000", "", {"hsts/absent", "hsts/over-http"}, id="hsts-in-the-wrong-block"),
        pytest.param(f"Redirect permanent / https://{PEER}/", f'Header set {HSTS} "max-age=31536000"\nHeader add {HSTS} "max-age=60"', {"hsts/twice", "hsts/uneven"}, id="hsts-twice-and-not-always"),
        pytest.param(
            f"Redirect permanent / https://{PEER}/",
            f'Header always set {HSTS} "max-age=31536000"\nHeader always add Set-Cookie "PHPSESSID=1; path=/"',
            {"cookie/not-secure", "cookie/not-http-only", "cookie/same-site"}, id="session-cookie",
        ),
    ],
)  # fmt: skip
def test_apache(tmp_path, plain, secure, expected):
    prepare(tmp_path)
    http, https = free_port(), free_port()
    configuration = (
        f"Listen 127.0.0.1:{http}\nListen 127.0.0.1:{https}\n"
        f"<VirtualHost 127.0.0.1:{http}>\nServerName {PEER}\n{plain.replace('{folder}', str(tmp_path))}\n</VirtualHost>\n"
        f"<VirtualHost 127.0.0.1:{https}>\nServerName {PEER}\n{TLS.format(folder=tmp_path)}\n{secure}\n</VirtualHost>\n"
        f"<Directory {tmp_path}/htdocs>\nRequire all granted\n</Directory>"
    )
    with apache(tmp_path, configuration, https):
        found, case = gaps(http, https)
    # The deep page is not there: that it leads nowhere is true of every configuration here.
    assert found - {"redirect/broken-target", "page/names-version"} == expected
    found_paths = [journey.start for journey in case.evidence.journeys if journey.looks_like == "login"]
    assert f"https://{PEER}/user/login" in found_paths


@pytest.mark.parametrize(
    ("plain", "secure", "expected"),
    [
        pytest.param(f"return 301 https://{PEER}$request_uri;", f"add_header {HSTS} max-age=31536000 always;", set(), id="good"),
        pytest.param(f"return 301 https://{PEER}$request_uri;", f"add_header {HSTS} max-age=31536000; location /user/ {{ add_header X-Other 1; }}", {"hsts/uneven"}, id="add-header-hidden"),
        pytest.param(f"rewrite ^ https://{PEER}/ redirect;", f"add_header {HSTS} max-age=31536000 always;", {"redirect/temporary", "redirect/drops-path"}, id="rewrite"),
        pytest.param(
            f"return 301 https://{PEER}$request_uri;",
            f"add_header {HSTS} max-age=31536000 always; location / {{ proxy_pass http://127.0.0.1:{{plain}}; proxy_set_header Host {PEER}; }}",
            {"redirect/loop"}, id="proxy-to-an-origin-that-asks-for-https",
        ),
    ],
)  # fmt: skip
def test_nginx(tmp_path, plain, secure, expected):
    prepare(tmp_path)
    http, https = free_port(), free_port()
    servers = (
        f"types {{ text/html html; }} default_type text/html; server_tokens off;\n"
        f"server {{ listen 127.0.0.1:{http}; server_name {PEER}; {plain} }}\n"
        f"server {{ listen 127.0.0.1:{https} ssl; server_name {PEER}; root {tmp_path}/htdocs;\n"
        f"ssl_certificate {tmp_path}/fullchain.pem; ssl_certificate_key {tmp_path}/leaf.key;\n"
        f"{secure.replace('{plain}', str(http))} }}"
    )
    with nginx(tmp_path, servers, https):
        found, case = gaps(http, https)
    assert found - {"redirect/broken-target"} == expected
    meets = {visit.meets for visit in predict_visits(case) if visit.start in {f"http://{PEER}/", f"https://{PEER}/"}}
    assert meets == ({Prediction.CIRCLES} if "redirect/loop" in expected else {Prediction.OPENS})
