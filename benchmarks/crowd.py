"""A crowd of sites on a real nginx, for the figures of a survey: run in a network namespace of its own.

Every site is a name of its own at an address of its own in 127/8, told by a name server; some addresses are silent
(they take connections and say nothing) and some drop what comes.
"""

import contextlib
import datetime
import socket
import subprocess
import sys
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))

from pewter.lab.authority import DAY, issue_ca, issue_server, make_key
from pewter.lab.name_server import read_zone

HOSTS_OF_A_CERTIFICATE = 2
SILENT, DROPPING = "127.250", "127.251"


def address_of(number: int) -> str:
    """A /24 for each site."""
    return f"127.{1 + number // 250}.{number % 250}.1"


def name_of(number: int) -> str:
    return f"site{number:05}.crowd.example"


class Crowd:
    """nginx and a name server in this namespace."""

    def __init__(self, count: int, folder: Path) -> None:
        self.count, self.folder = count, folder
        now = datetime.datetime.now(datetime.UTC)
        self.root = issue_ca("Crowd Root", None, now - 100 * DAY, now + 1000 * DAY)
        self.issuing = issue_ca("Crowd Issuing CA", self.root, now - 100 * DAY, now + 900 * DAY, path_length=0)
        self.now = now
        self._processes: list[subprocess.Popen] = []
        self._sockets: list[socket.socket] = []

    def __enter__(self) -> "Crowd":
        (self.folder / "root.pem").write_bytes(self.root.pem)
        servers, key_of = [], None
        for first in range(0, self.count, HOSTS_OF_A_CERTIFICATE):
            names = [name_of(n) for n in range(first, min(first + HOSTS_OF_A_CERTIFICATE, self.count))]
            key_of = key_of or make_key("P-256")
            leaf = issue_server(names, self.issuing, self.now - 20 * DAY, self.now + 70 * DAY, key=key_of)
            chain, key = self.folder / f"{first}.pem", self.folder / f"{first}.key"
            chain.write_bytes(leaf.pem + self.issuing.pem)
            key.write_bytes(leaf.key_pem)
            servers += [self._server(name, chain, key) for name in names]
        listen = "listen 80;"
        config = f"""
daemon off; worker_processes 1; pid {self.folder}/nginx.pid; error_log {self.folder}/error.log crit;
worker_rlimit_nofile 8192;
events {{ worker_connections 4096; }}
http {{
  access_log off; server_names_hash_max_size 16384; server_names_hash_bucket_size 128;
  client_body_temp_path {self.folder}/b; proxy_temp_path {self.folder}/p; fastcgi_temp_path {self.folder}/f;
  uwsgi_temp_path {self.folder}/u; scgi_temp_path {self.folder}/s;
  server {{ {listen} server_name _; return 301 https://$host$request_uri; }}
  {"".join(servers)}
}}
"""
        (self.folder / "nginx.conf").write_text(config)
        self._processes.append(subprocess.Popen(["nginx", "-p", self.folder, "-c", self.folder / "nginx.conf"]))
        (self.folder / "zone").write_text("\n".join(self._records()))
        self._processes.append(subprocess.Popen([sys.executable, __file__, "serve-names", self.folder / "zone"]))
        _wait_for("127.0.0.1", 443)
        _wait_for("127.0.0.53", 53)
        return self

    def _server(self, name: str, chain: Path, key: Path) -> str:
        return (
            f"server {{ listen 443 ssl; server_name {name}; ssl_certificate {chain}; ssl_certificate_key {key};"
            f" ssl_protocols TLSv1.2 TLSv1.3; default_type text/html; add_header Strict-Transport-Security max-age=31536000 always;"
            f' location = / {{ return 200 "<!doctype html><title>{name}</title><h1>{name}</h1><a href=/about>About</a>"; }}'
            f" location / {{ return 404; }} }}\n"
        )

    def _records(self):
        yield from (f"{name_of(n)}. A {address_of(n)}" for n in range(self.count))
        yield from (f"silent{n:04}.crowd.example. A {SILENT}.{n}.1" for n in range(250))
        yield from (f"dropping{n:04}.crowd.example. A {DROPPING}.{n}.1" for n in range(250))
        yield from (f"shared{n:04}.crowd.example. A 127.200.0.1" for n in range(100))

    def silence(self, silent: int, dropping: int) -> list[str]:
        """Routes of so many addresses to a listener that takes connections and says nothing, and to one that drops."""
        mute, full = socket.socket(), socket.socket()
        mute.bind(("127.0.0.1", 0))
        mute.listen(4096)
        full.bind(("127.0.0.1", 0))
        full.listen(0)
        for _ in range(4):  # its queue is full from now on: further SYNs are dropped
            filler = socket.socket()
            filler.setblocking(False)
            with contextlib.suppress(BlockingIOError):
                filler.connect(full.getsockname())
            self._sockets.append(filler)
        self._sockets += [mute, full]
        places = [(f"{SILENT}.{n}.1", mute) for n in range(silent)] + [
            (f"{DROPPING}.{n}.1", full) for n in range(dropping)
        ]
        return [
            f"{address}:{port}=127.0.0.1:{there.getsockname()[1]}" for address, there in places for port in (80, 443)
        ]

    def __exit__(self, *_: object) -> None:
        for each in self._processes:
            each.terminate()
            each.wait(10)
        for each in self._sockets:
            each.close()


def _wait_for(address: str, port: int) -> None:
    for _ in range(300):
        with contextlib.suppress(OSError), socket.create_connection((address, port), 1):
            return
        time.sleep(0.1)
    raise RuntimeError(f"nothing listens at {address}:{port}")


def serve_names(file: Path) -> None:
    """A name server that knows the whole crowd, at 127.0.0.53."""
    import asyncio

    from pewter.lab import name_server

    zone = read_zone(".", file.read_text())

    class Fast(name_server.NameServer):
        pass

    async def serve() -> None:
        server = Fast((zone,))
        loop = asyncio.get_running_loop()
        await loop.create_datagram_endpoint(lambda: name_server._UdpSide(server), local_addr=("127.0.0.53", 53))
        await asyncio.start_server(server._serve_tcp, "127.0.0.53", 53)
        await asyncio.Event().wait()

    asyncio.run(serve())


if __name__ == "__main__" and sys.argv[1:2] == ["serve-names"]:
    serve_names(Path(sys.argv[2]))
