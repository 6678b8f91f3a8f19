"""The sound servers behind the weather: each at an https and an http port."""

import asyncio
import contextlib
from collections.abc import Callable, Iterator
from pathlib import Path

from support.looks import PEER
from support.servers import apache, free_port, nginx
from support.tls_servers import install
from weather.relays import copy, serving

ALERT = b"\x15"

POLICY = 'add_header Strict-Transport-Security "max-age=63072000" always;'


def _nginx(folder: Path, https: int, http: int, options: str = "ssl_protocols TLSv1.2 TLSv1.3;"):
    install(folder, ("P-256",))
    blocks = (
        f"server {{ listen 127.0.0.1:{http}; return 301 https://{PEER}$request_uri; }}\n"
        f"server {{ listen 127.0.0.1:{https} ssl http2; ssl_certificate {folder}/full0.pem; ssl_certificate_key {folder}/key0.pem;\n"
        f"{options} {POLICY} server_tokens off; location = / {{ default_type text/html; return 200 '<title>Tickets</title>'; }} }}"
    )
    return nginx(folder, blocks, https)


def _old(folder: Path, https: int, http: int):
    return _nginx(folder, https, http, "ssl_protocols TLSv1 TLSv1.1 TLSv1.2; ssl_ciphers ALL:@SECLEVEL=0;")


def _apache(folder: Path, https: int, http: int):
    install(folder, ("RSA 2048",))
    (folder / "index.html").write_text("<title>Tickets</title>")
    configuration = (
        f"ServerTokens Prod\nListen 127.0.0.1:{https}\nListen 127.0.0.1:{http}\nSSLProtocol TLSv1.2 TLSv1.3\n"
        f"<VirtualHost *:{http}>\nRedirect permanent / https://{PEER}/\n</VirtualHost>\n"
        f"<VirtualHost *:{https}>\nSSLEngine on\nSSLCertificateFile {folder}/full0.pem\nSSLCertificateKeyFile {folder}/key0.pem\n"
        f'DocumentRoot {folder}\nDirectoryIndex index.html\nHeader always set Strict-Transport-Security "max-age=63072000"\n'
        f"<Directory {folder}>\nRequire all granted\n</Directory>\n</VirtualHost>\n"
    )
    return apache(folder, configuration, https)


@contextlib.contextmanager
def _closes(folder: Path, https: int, http: int) -> Iterator[None]:
    """nginx behind something that ends a connection in place of an alert, as load balancers do."""
    inner = free_port()

    async def serve(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        from_inside, to_inside = await asyncio.open_connection("127.0.0.1", inner)

        async def outward() -> None:
            octets = await from_inside.read(1 << 16)
            while octets and octets[:1] != ALERT:
                writer.write(octets)
                octets = await from_inside.read(1 << 16)
            writer.close()
            to_inside.close()

        with contextlib.suppress(OSError):
            await asyncio.gather(outward(), copy(reader, to_inside))

    with _nginx(folder, inner, http), serving(serve, https):
        yield


SERVERS: dict[str, Callable[[Path, int, int], contextlib.AbstractContextManager[None]]] = {
    "nginx": _nginx,
    "apache": _apache,
    "old": _old,
    "closes": _closes,
}
