"""What is fitted to small configurations: the diff, what is told of it, and what is held back, word by word."""

from pathlib import Path

import msgspec
import pytest

from pewter.fitting.fit import Put, fit
from pewter.mends.composer import Situation, compose
from pewter.mends.kinds import Kind
from pewter.plan.server_files import read_server_files

HERE = Situation(host="x.example", canonical="https://x.example", names=("x.example",), is_secure=True)
PLAIN = msgspec.structs.replace(HERE, is_secure=False)
LANDS = msgspec.structs.replace(HERE, landing="www.x.example", max_age=600, sts="max-age=600")
COOKIE = msgspec.structs.replace(HERE, cookies=("sid",))
CIRCLE = msgspec.structs.replace(HERE, is_own_circle=True)
WITH_WWW = msgspec.structs.replace(PLAIN, host="www.x.example")

HTTP = "http {\n%s}\n"
TLS = "server {\n    listen 443 ssl;\n    server_name x.example;\n%s}\n"
VHOST = "<VirtualHost *:443>\n    ServerName x.example\n    SSLEngine on\n%s</VirtualHost>\n"
FRONT = "frontend web\n    mode http\n    bind :::80\n    bind :::443 ssl crt a.pem %s\n    default_backend app\n"
CADDY = "x.example {\n%s}\n"
LIGHTTPD = 'server.modules = ( "mod_openssl" )\n%s'

CASES = {
    # What is inherited stays.
    "nginx-fields-of-http-are-repeated": (Kind.NGINX, "hsts/absent", [HERE], {"c": HTTP % ("add_header X-A a;\n" + TLS % "")}),
    "nginx-locations-with-their-own-get-it-too": (Kind.NGINX, "hsts/absent", [HERE], {"c": TLS % "    location / { add_header X-A a; }\n    location /b { }\n"}),
    "nginx-a-second-field-is-not-made": (Kind.NGINX, "hsts/absent", [HERE], {"c": TLS % "    add_header Strict-Transport-Security max-age=1;\n"}),
    "nginx-a-shared-file-is-written-out": (
        Kind.NGINX, "hsts/short", [HERE],
        {"c": TLS % "    include s;\n" + "server { listen 443 ssl; server_name y.example; include s; }\n", "s": "add_header Strict-Transport-Security max-age=1;\nadd_header X-A a;\n"},
    ),
    "nginx-flags-of-any-cookie-come-behind": (Kind.NGINX, "cookie/not-secure", [COOKIE], {"c": TLS % "    location / {\n        proxy_pass http://a;\n        proxy_cookie_flags ~ httponly;\n    }\n"}),
    "nginx-fields-to-the-application-take-the-place": (Kind.NGINX, "redirect/loop", [CIRCLE], {"c": TLS % "    proxy_set_header X-B b;\n    location / {\n        proxy_set_header Host $http_host;\n        proxy_pass http://a;\n    }\n"}),
    # Port 80.
    "nginx-the-challenge-its-logs-and-addresses-stay": (
        Kind.NGINX, "redirect/missing", [PLAIN],
        {"c": "server {\n\tlisten 192.0.2.1:80;\n\tserver_name x.example;\n\taccess_log a;\n\tlocation ^~ /.well-known/acme-challenge/ {\n\t\troot /w;\n\t}\n\tlocation / { proxy_pass http://a; }\n}\n"},
    ),
    "nginx-other-names-of-the-block-stay": (Kind.NGINX, "redirect/missing", [PLAIN], {"c": "server {\n    listen 80 default_server;\n    server_name x.example y.example;\n}\n"}),
    "nginx-one-block-for-both-ports-and-names": (Kind.NGINX, "redirect/missing", [PLAIN, WITH_WWW], {"c": "server {\n    listen 80;\n    listen 443 ssl;\n    server_name x.example www.x.example;\n}\n"}),
    "nginx-one-block-for-both-ports-and-a-stranger": (Kind.NGINX, "redirect/missing", [PLAIN], {"c": "server {\n    listen 80;\n    listen 443 ssl;\n    server_name x.example y.example;\n}\n"}),
    "nginx-a-catch-all-goes-on": (Kind.NGINX, "redirect/missing", [PLAIN], {"c": "server {\n    listen 80 default_server;\n    return 200 a;\n}\n"}),
    "apache-the-challenge-and-other-names-stay": (
        Kind.APACHE, "redirect/missing", [PLAIN],
        {"c": "<VirtualHost 192.0.2.1:80>\n    ServerName x.example\n    ServerAlias y.example\n    Alias /.well-known/acme-challenge/ /w/\n    ErrorLog e\n</VirtualHost>\n"},
    ),
    "apache-on-both-ports": (Kind.APACHE, "redirect/missing", [PLAIN], {"c": "<VirtualHost *:80 *:443>\n    ServerName x.example\n</VirtualHost>\n"}),
    "haproxy-before-other-rules": (Kind.HAPROXY, "redirect/missing", [PLAIN], {"c": FRONT % ""}),
    "caddy-one-address-of-several": (Kind.CADDY, "redirect/missing", [PLAIN], {"c": "http://x.example, http://y.example {\n    respond a\n}\n"}),
    "lighttpd-its-module-is-loaded": (Kind.LIGHTTPD, "redirect/missing", [PLAIN], {"c": LIGHTTPD % ""}),
    # Who nobody knows.
    "nginx-a-block-without-a-name-gets-it": (Kind.NGINX, "reach/unknown-host", [HERE], {"c": "server {\n    listen 443 ssl default_server;\n    listen [::]:443 ssl;\n    server_name _;\n}\n"}),
    "apache-at-its-address": (Kind.APACHE, "reach/unknown-host", [PLAIN], {"c": "<VirtualHost 192.0.2.1:80>\n    DocumentRoot /w\n</VirtualHost>\n"}),
    "haproxy-names-that-it-speaks-of": (Kind.HAPROXY, "reach/unknown-host", [HERE], {"c": FRONT % "" + "    use_backend b if { hdr(host) -i y.example }\n"}),
    "haproxy-names-by-patterns": (Kind.HAPROXY, "reach/unknown-host", [HERE], {"c": FRONT % "" + "    use_backend b if { hdr_end(host) -i .y.example }\n"}),
    # TLS.
    "nginx-every-line-at-any-depth": (Kind.NGINX, "protocol/obsolete", [HERE], {"c": HTTP % ("ssl_protocols TLSv1;\n" + TLS % "    ssl_protocols TLSv1.1; # why?\n")}),
    "nginx-without-http": (Kind.NGINX, "protocol/obsolete", [HERE], {"c": TLS % ""}),
    "nginx-a-word-of-the-listen-line": (Kind.NGINX, "protocol/no-h2", [msgspec.structs.replace(HERE, version=(1, 22))], {"c": TLS % ""}),
    "apache-where-it-stands-first": (Kind.APACHE, "protocol/obsolete", [HERE], {"c": "<IfModule ssl_module>\n    SSLProtocol all\n</IfModule>\n" + VHOST % "    SSLProtocol all\n"}),
    "apache-client-certificates-of-a-folder-stay": (Kind.APACHE, "reach/client-certificate", [HERE], {"c": VHOST % "    SSLVerifyClient require\n    <Location /admin>\n        SSLVerifyClient require\n    </Location>\n"}),
    "haproxy-words-of-the-bind-line": (Kind.HAPROXY, "protocol/obsolete", [HERE], {"c": "global\n    ssl-default-bind-options no-tlsv13 no-sslv3\n" + FRONT % "ssl-min-ver TLSv1.0 alpn h2 # old"}),
    "haproxy-passes-tcp-on": (Kind.HAPROXY, "hsts/absent", [HERE], {"c": "frontend web\n    mode tcp\n    bind :::443\n"}),
    "caddy-tls-of-an-imported-snippet": (Kind.CADDY, "protocol/no-tls13", [HERE], {"c": "(s) {\n    tls a b {\n        protocols tls1.2 tls1.2\n    }\n}\nx.example {\n    import s\n}\n"}),
    "lighttpd-elements-of-its-lists": (Kind.LIGHTTPD, "protocol/obsolete", [HERE], {"c": LIGHTTPD % 'ssl.openssl.ssl-conf-cmd = ( "MinProtocol" => "TLSv1", "Options" => "-X" )\n$SERVER["socket"] == ":443" { ssl.engine = "enable" }\n'}),
    "lighttpd-a-policy-for-all": (Kind.LIGHTTPD, "hsts/short", [msgspec.structs.replace(HERE, names=("x.example", "www.x.example"))], {"c": LIGHTTPD % 'setenv.set-response-header = ( "Strict-Transport-Security" => "max-age=1", "X-A" => "a" )\n'}),
    # Redirects over https.
    "nginx-before-what-redirects-others": (Kind.NGINX, "redirect/wrong-place", [LANDS], {"c": "server {\n    listen 443 ssl;\n    server_name x.example y.example;\n    return 302 https://www.x.example/;\n}\n"}),
    "apache-before-other-rewrites": (Kind.APACHE, "redirect/wrong-place", [LANDS], {"c": VHOST % "    Redirect / https://y.example/\n    RewriteEngine On\n    RewriteRule ^/a /b\n"}),
    # What is not placed.
    "a-line-with-a-secret": (Kind.NGINX, "hsts/short", [HERE], {"c": TLS % '    add_header Strict-Transport-Security max-age=1; set $password "hunter2";\n'}),
    "a-secret-beside-it-is-not-shown": (Kind.NGINX, "hsts/short", [HERE], {"c": TLS % '    set $password "hunter2";\n    add_header Strict-Transport-Security max-age=1;\n    set $token "hunter2";\n'}),
    "another-host": (Kind.NGINX, "hsts/short", [HERE], {"c": "server { listen 80; server_name y.example; }\n"}),
    "the-default-has-a-name-of-its-own": (Kind.NGINX, "hsts/short", [HERE], {"c": "server { listen 443 ssl default_server; server_name y.example; }\n"}),
    "the-first-has-a-name-of-its-own": (Kind.APACHE, "hsts/short", [HERE], {"c": (VHOST % "").replace("x.ex", "y.ex")}),
    "port-80-of-a-part-of-a-configuration": (Kind.NGINX, "redirect/missing", [PLAIN], {"c": "server { listen 80; server_name y.example; }\n"}),
    "port-80-of-a-whole-configuration": (Kind.NGINX, "redirect/missing", [PLAIN], {"c": HTTP % "server { listen 80; server_name y.example; }\n"}),
    "names-that-nobody-looked-at": (Kind.NGINX, "hsts/short", [HERE], {"c": "server { listen 443 ssl; server_name x.example z.example; }\n"}),
    "a-name-by-a-regular-expression": (Kind.NGINX, "hsts/short", [HERE], {"c": "server { listen 443 ssl; server_name ~^(?<a>.+)\\.example$; }\n"}),
    "by-hand": (Kind.NGINX, "chain/incomplete", [HERE], {"c": TLS % "    ssl_certificate a.pem;\n"}),
    # Letters.
    "lines-that-end-in-cr": (Kind.NGINX, "hsts/absent", [HERE], {"c": (TLS % "    server_tokens off;\n").replace("\n", "\r\n")}),
    "tabs-and-no-end-of-line": (Kind.HAPROXY, "hsts/absent", [HERE], {"c": "defaults\n\tmode http\nfrontend web\n\tbind :443 ssl crt a\n\tdefault_backend app"}),
    "octets-that-are-no-text": (Kind.NGINX, "hsts/absent", [HERE], {"c": "# \udcff\n" + TLS % ""}),
}  # fmt: skip


@pytest.mark.parametrize("name", CASES)
def test_what_is_fitted(name, tmp_path, told):
    kind, rule, situations, files = CASES[name]
    for file, text in files.items():
        (tmp_path / file).write_bytes(text.encode("utf-8", "surrogateescape"))
    said: list[str] = []
    found, tree, _ = read_server_files([tmp_path / "c"], kind.value, said.append)
    pieces = [piece for each in situations for piece in compose(rule, kind, [each])]
    fitted = fit(found, tree, [Put(piece, (1,), rule) for piece in pieces], situations[0].names)
    lines = [f"{each.path}:{each.line} {each.place}; {each.how}; {' '.join(each.replaced)}; {each.by_hand}" for each in fitted.changes]  # fmt: skip
    lines += [f"held: {each.place}: {each.reason}" for each in fitted.held]
    assert not said
    assert "hunter2" not in "\n".join((*lines, fitted.diff))
    text = "\n".join((*lines, fitted.diff)).replace("\r", "<CR>").replace("\t", "<TAB>")
    told(text.encode("utf-8", "surrogateescape").decode("utf-8", "backslashreplace").rstrip("\n"))


def test_what_is_not_changed_stays_to_the_octet(tmp_path):
    """Applied by hand: the diff's lines are all that differs."""
    kind, rule, situations, files = CASES["nginx-every-line-at-any-depth"]
    Path(tmp_path / "c").write_text(files["c"])
    _, tree, _ = read_server_files([tmp_path / "c"], kind.value, print)
    (change,) = fit(kind, tree, [Put(piece, (1,), rule) for piece in compose(rule, kind, situations)], ()).files
    was, now = change.before.splitlines(), change.after.splitlines()
    assert [line for line in was if line not in now] == ["ssl_protocols TLSv1;", "    ssl_protocols TLSv1.1; # why?"]
    assert [line for line in now if line not in was] == ["ssl_protocols TLSv1.2 TLSv1.3;"]
