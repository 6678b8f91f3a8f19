"""A configuration of each kind of server, with marks for the places that mends name.

``<<place place>>`` holds a block that a mend may replace, ``<<fault fault>>`` lines of a fault, and ``@@place@@`` is where lines
are added.  Everything is passed to the application on port 8000, so that most faults are the application's own.
"""

import re
from dataclasses import dataclass

_FAULT = re.compile(r"<<fault\n(.*?)fault>>\n?|<<fault ([^\n]*?) fault>>", re.DOTALL)


@dataclass(frozen=True)
class Base:
    command: tuple[str, ...]
    file: str
    text: str
    test: tuple[str, ...] = ()
    """Checks the configuration."""


def put(text: str, place: str, manner: str, lines: str, *, has_of: bool) -> str:
    """The configuration with lines put where a mend says."""
    if manner == "replaces" and not has_of:
        block = re.compile(rf"<<{place}\n.*?{place}>>", re.DOTALL)
        assert block.search(text), f"no block {place}"
        return block.sub(lambda match: f"{lines}\n", text, count=1)
    if manner in {"replaces", "removes"}:
        text = _FAULT.sub("", text)
    if manner == "removes":
        return text
    assert f"@@{place}@@" in text, f"no place {place}"
    if manner == "first":
        return text.replace(f"@@{place}@@", f"@@{place}@@\n{lines}", 1)
    # What was put there before stays: later lines come behind it.
    return text.replace(f"@@{place}@@", f"{lines} @@{place}@@" if place == "bind" else f"{lines}\n@@{place}@@", 1)


def bare(text: str) -> str:
    """Without any mark."""
    text = _FAULT.sub(lambda match: match[1] or match[2] or "", text)
    return re.sub(r"<<[a-z]+\n|[a-z]+>>|@@[a-z]+@@", "", text)


NGINX = Base(
    ("nginx", "-p", "{folder}", "-c", "{folder}/server.conf"), "server.conf",
    """daemon off; user root; worker_processes 1; pid {folder}/nginx.pid; error_log {folder}/error.log;
events {{ worker_connections 64; }}
http {{
access_log off; client_body_temp_path {folder}/b; proxy_temp_path {folder}/p; fastcgi_temp_path {folder}/f; uwsgi_temp_path {folder}/u; scgi_temp_path {folder}/s;
{versions}
{general}
@@http@@
<<plain
{plain}
plain>>
server {{
{listen}
server_name {host}; ssl_certificate {folder}/{chain}; ssl_certificate_key {folder}/leaf.key;
@@secure@@
@@listening@@
{secure}
location / {{
proxy_pass http://127.0.0.1:8000; proxy_set_header Host $host; proxy_set_header X-Base-Scheme $scheme;
@@passing@@
}}
}}
{other}
@@blocks@@
}}
""",
    ("nginx", "-t", "-p", "{folder}", "-c", "{folder}/server.conf"),
)  # fmt: skip

_MODULES = (
    "mpm_event", "authz_core", "ssl", "socache_shmcb", "headers", "rewrite", "alias", "proxy", "proxy_http", "http2",
)  # fmt: skip

APACHE = Base(
    ("apache2", "-f", "{folder}/server.conf", "-DFOREGROUND"), "server.conf",
    "\n".join(f"LoadModule {name}_module /usr/lib/apache2/modules/mod_{name}.so" for name in _MODULES)
    + """
Define APACHE_RUN_DIR {folder}
User www-data
Group www-data
ServerRoot {folder}
PidFile {folder}/pid
ErrorLog {folder}/error.log
ServerName fallback.invalid
{listens}
{general}
@@server@@
@@everywhere@@
@@first@@
<<plain
{plain}
plain>>
<VirtualHost *:443>
ServerName {host}
{engine}
SSLCertificateFile {folder}/{chain}
SSLCertificateKeyFile {folder}/leaf.key
@@secure@@
@@passing@@
{secure}
RequestHeader set X-Base-Scheme https
ProxyPreserveHost On
ProxyPass / http://127.0.0.1:8000/
</VirtualHost>
{other}
""",
    ("apache2", "-t", "-f", "{folder}/server.conf"),
)  # fmt: skip

HAPROXY = Base(
    ("haproxy", "-db", "-f", "{folder}/server.conf"), "server.conf",
    """global
    maxconn 200
    {general}
defaults
    mode http
    timeout connect 5s
    timeout client 10s
    timeout server 10s
@@frontends@@
{plain}
frontend secure
    bind :::443 v4v6 {engine} @@bind@@ {bind}
    @@secure@@
    {secure}
    http-request set-header X-Base-Scheme https
    default_backend application
backend application
    server a 127.0.0.1:8000
""",
    ("haproxy", "-c", "-f", "{folder}/server.conf"),
)  # fmt: skip

CADDY = Base(
    ("caddy", "run", "--config", "{folder}/server.conf", "--adapter", "caddyfile"), "server.conf",
    """{{
    admin off
    auto_https disable_certs
    storage file_system {folder}/caddy
    {general}
}}
<<plain
{plain}
plain>>
{host} {{
    tls {folder}/{chain} {folder}/leaf.key {{
        @@tls@@
        {tls}
    }}
    @@secure@@
    {secure}
    reverse_proxy 127.0.0.1:8000 {{
        header_up X-Base-Scheme {{scheme}}
        {passing}
        @@passing@@
    }}
}}
{other}
@@blocks@@
""",
    ("caddy", "validate", "--config", "{folder}/server.conf", "--adapter", "caddyfile"),
)  # fmt: skip

LIGHTTPD = Base(
    ("lighttpd", "-D", "-f", "{folder}/server.conf"), "server.conf",
    """server.modules = ( "mod_proxy", "mod_openssl" )
server.document-root = "{folder}"
server.errorlog = "{folder}/error.log"
server.port = {port}
{general}
ssl.pemfile = "{folder}/{chain}"
ssl.privkey = "{folder}/leaf.key"
{secure}
@@socket@@
$SERVER["socket"] == ":443" {{ {engine} }}
$SERVER["socket"] == "[::]:443" {{ {engine} }}
{other}
{plain}
proxy.server = ( "" => ( ( "host" => "127.0.0.1", "port" => 8000 ) ) )
@@end@@
""",
    ("lighttpd", "-tt", "-f", "{folder}/server.conf"),
)  # fmt: skip

OTHER = {
    "nginx": 'server { listen 443 ssl; listen [::]:443 ssl; server_name www.mend.example; ssl_certificate {folder}/landing.pem; ssl_certificate_key {folder}/leaf.key; location / { proxy_pass http://127.0.0.1:8000; proxy_set_header Host $host; proxy_set_header X-Base-Scheme $scheme; } }',
    "apache": "<VirtualHost *:443>\nServerName www.mend.example\nSSLEngine on\nSSLCertificateFile {folder}/landing.pem\nSSLCertificateKeyFile {folder}/leaf.key\nRequestHeader set X-Base-Scheme https\nProxyPreserveHost On\nProxyPass / http://127.0.0.1:8000/\n</VirtualHost>",
    "caddy": "www.mend.example {\n    tls {folder}/landing.pem {folder}/leaf.key\n    reverse_proxy 127.0.0.1:8000 {\n        header_up X-Base-Scheme {scheme}\n    }\n}",
}  # fmt: skip
"""Another name on the same server."""
OTHER["lighttpd"] = (
    '$HTTP["host"] == "www.mend.example" {\n    ssl.pemfile = "{folder}/landing.pem"\n'
    '    ssl.privkey = "{folder}/leaf.key"\n}'
)
