"""An application behind the server under proof: what it answers is named by its one argument.

It learns the scheme from ``X-Base-Scheme``, which every set-up sends, and believes ``X-Forwarded-Proto`` where it says so.
"""

import http.server
import socketserver
import sys

HOST, LANDING = "mend.example", "www.mend.example"
STS = "Strict-Transport-Security"
PAGE = b"<!doctype html><title>Mend</title><h1>page</h1>"


def answer(behaviour: str, host: str, scheme: str, forwarded: str, target: str):
    """Status, fields and body."""
    secure = scheme == "https"
    to_https = None if secure else f"https://{host}{target}"
    match behaviour:
        case "content":
            return 200, (), PAGE
        case "partial" if target != "/":
            return 200, (), PAGE
        case "temporary" if not secure:
            return 302, (("Location", to_https),), b""
        case "temporary-landing" if secure and host == HOST:
            return 302, (("Location", f"https://{LANDING}{target}"),), b""
        case "elsewhere" if secure and host == HOST:
            return 301, (("Location", "https://other.mend.example/"),), b""
        case "drops" if not secure:
            return 301, (("Location", f"https://{host}/"),), b""
        case "straight" if not secure:
            return 301, (("Location", f"https://{LANDING}{target}"),), b""
        case "plain-hop" if not secure and target == "/":
            return 301, (("Location", f"http://{host}/start"),), b""
        case "by-page" if not secure:
            return 200, (), PAGE + f'<meta http-equiv="refresh" content="0; url=https://{host}/">'.encode()
        case "apex-bare" if secure and host == HOST:
            return 301, (("Location", f"https://{LANDING}{target}"),), b""
        case "circle" if forwarded != "https":
            return 301, (("Location", f"https://{host}{target}"),), b""
        case "downgrade" if secure and forwarded != "https" and target == "/":
            return 301, (("Location", f"http://{host}/start"),), b""
        case "downgrade" if target == "/start":
            return 200, (), PAGE
    if to_https is not None and behaviour not in {"circle", "downgrade"}:
        unsafe = ((STS, "max-age=31536000"),) if behaviour == "unsafe-http" else ()
        unsafe = (
            (("Set-Cookie", "sid=1; Path=/; Secure; HttpOnly; SameSite=Lax"),) if behaviour == "cookie-http" else unsafe
        )
        return 301, (("Location", to_https), *unsafe), b""
    fields: list[tuple[str, str]] = []
    match behaviour:
        case "short-below":
            fields = [(STS, "max-age=60; includeSubDomains; preload")]
        case "short":
            fields = [(STS, "max-age=60")]
        case "zero":
            fields = [(STS, "max-age=0")]
        case "invalid":
            fields = [(STS, "max-age: 31536000")]
        case "twice":
            fields = [(STS, "max-age=31536000"), (STS, "max-age=60")]
        case "uneven" if target == "/":
            fields = [(STS, "max-age=31536000")]
        case "year" | "apex-bare":
            fields = [(STS, "max-age=31536000")]
        case "unsafe-http":
            fields = [(STS, "max-age=31536000")]
        case "cookie":
            fields = [
                ("Set-Cookie", "PHPSESSID=0123456789abcdef; Path=/"),
                ("Set-Cookie", "other=1; Path=/; Secure; HttpOnly; SameSite=Lax"),
            ]
        case "cookie-none":
            fields = [("Set-Cookie", "PHPSESSID=0123456789abcdef; Path=/; HttpOnly; SameSite=None")]
        case "blocked":
            fields = [("Content-Security-Policy", "frame-ancestors 'self'")]
            return 200, fields, PAGE + b'<script src="http://mend.example/x.js"></script>'
        case "blocked-alone":
            return 200, fields, PAGE + b'<script src="http://mend.example/x.js"></script>'
        case "named":
            fields = [("X-Powered-By", "PHP/8.1.2")]
    if target.startswith("/pewter-no-such"):
        return 404, fields, b"<!doctype html><title>none</title>no such page"
    return 200, fields, PAGE


def answer_together(behaviours: list[str], host: str, scheme: str, forwarded: str, target: str):
    """What several of them come to: the first decides over http, and pages over https have what each of them says."""
    if scheme != "https" or len(behaviours) == 1:
        return answer(behaviours[0], host, scheme, forwarded, target)
    told = [answer(each, host, scheme, forwarded, target) for each in behaviours[1:]]
    body = max((each[2] for each in told), key=len)
    return told[0][0], [field for each in told for field in each[1]], body


class Handler(http.server.BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"

    def do_GET(self) -> None:
        scheme = self.headers.get("X-Base-Scheme") or self.headers.get("X-Forwarded-Proto", "http")
        host = self.headers.get("Host", HOST)
        forwarded = self.headers.get("X-Forwarded-Proto", "")
        status, fields, body = answer_together(sys.argv[1].split("+"), host, scheme, forwarded, self.path)
        self.send_response_only(status)
        for name, value in fields:
            self.send_header(name, value)
        self.send_header("Content-Type", "text/html; charset=utf-8")
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, *arguments: object) -> None: ...


if __name__ == "__main__":
    socketserver.ThreadingTCPServer.allow_reuse_address = True
    with socketserver.ThreadingTCPServer(("127.0.0.1", 8000), Handler) as server:
        server.daemon_threads = True
        server.serve_forever()
