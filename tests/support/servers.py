"""Real servers from Debian, on loopback ports of their own."""

import contextlib
import os
import random
import shutil
import socket
import subprocess
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

REQUIRED = os.environ.get("PEWTER_REAL_SERVERS") == "required"
"""Set by CI: a missing server is then a failure, not a skip."""


def need(program: str) -> str:
    found = shutil.which(program) or shutil.which(program, path="/usr/sbin:/usr/local/sbin")
    if found is None and REQUIRED:
        pytest.fail(f"{program} is not installed, and PEWTER_REAL_SERVERS is required")
    if found is None:
        pytest.skip(f"{program} is not installed: nothing was tested against it")
    return found


def free_port() -> int:
    """A port that nothing listens on, below those that the system gives away by itself: nobody takes it in between."""
    while True:
        port = random.SystemRandom().randrange(12_000, 32_000)
        with contextlib.suppress(OSError), socket.socket() as probe, socket.socket(type=socket.SOCK_DGRAM) as datagrams:
            probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            for each in (probe, datagrams):
                each.bind(("127.0.0.1", port))
            return port


@contextlib.contextmanager
def running(command: list[str], port: int, folder: Path, ready: bytes | None = None) -> Iterator[None]:
    """A server process until the end of the block; only this very process is ended.

    It is up once it takes a connection, or, where ``ready`` is given, once it has printed that.
    """
    with (folder / "server.log").open("wb") as log:
        process = subprocess.Popen(command, cwd=folder, stdin=subprocess.DEVNULL, stdout=log, stderr=log)
    try:
        wait_for(port, process, folder / "server.log", ready)
        yield
    finally:
        process.terminate()
        process.wait(10)


def wait_for(port: int, process: subprocess.Popen[bytes], log: Path, ready: bytes | None = None) -> None:
    for _ in range(200):
        if ready is not None:
            if ready in log.read_bytes():
                return
            time.sleep(0.05)
            continue
        with contextlib.suppress(OSError), socket.create_connection(("127.0.0.1", port), 1):
            return
        if process.poll() is not None:
            break
        time.sleep(0.05)
    raise AssertionError(f"the server did not start: {log.read_text(errors='replace')[-2000:]}")


@contextlib.contextmanager
def openssl_server(folder: Path, *options: str) -> Iterator[int]:
    """``openssl s_server`` with leaf.pem, chain.pem and leaf.key of the folder."""
    port = free_port()
    command = [need("openssl"), "s_server", "-accept", str(port), "-cert", "leaf.pem", "-key", "leaf.key"]
    with running([*command, "-cert_chain", "chain.pem", "-www", "-quiet", *options], port, folder):
        yield port


@contextlib.contextmanager
def nginx(folder: Path, servers: str, port: int) -> Iterator[None]:
    """nginx in the foreground with these server blocks."""
    program = need("nginx")
    # Started by root, its workers would be another user, who may not read the folder of a test.
    owner = "user root; " if os.geteuid() == 0 else ""
    (folder / "nginx.conf").write_text(
        f"{owner}daemon off; worker_processes 1; pid {folder}/nginx.pid; error_log {folder}/error.log;\n"
        "events { worker_connections 64; }\n"
        f"http {{ access_log off; client_body_temp_path {folder}/b; proxy_temp_path {folder}/p;\n"
        f"fastcgi_temp_path {folder}/f; uwsgi_temp_path {folder}/u; scgi_temp_path {folder}/s;\n{servers}\n}}\n"
    )
    with running([program, "-p", str(folder), "-c", str(folder / "nginx.conf")], port, folder):
        yield


@contextlib.contextmanager
def apache(folder: Path, configuration: str, port: int) -> Iterator[None]:
    """Apache httpd in the foreground with these directives, all its files in the folder."""
    program = need("apache2")
    modules = Path("/usr/lib/apache2/modules")
    wanted = (
        "mpm_event",
        "authz_core",
        "ssl",
        "socache_shmcb",
        "headers",
        "rewrite",
        "alias",
        "proxy",
        "proxy_http",
        "dir",
        "mime",
    )
    loads = "\n".join(f"LoadModule {name}_module {modules}/mod_{name}.so" for name in wanted)
    # Debian builds httpd without the permission to serve as root.
    owner = "User www-data\nGroup www-data\n" if os.geteuid() == 0 else ""
    (folder / "mime.types").write_text("text/html html\n")
    (folder / "apache.conf").write_text(
        f"ServerRoot {folder}\nPidFile {folder}/httpd.pid\nErrorLog {folder}/error.log\nServerName localhost\n{owner}{loads}\n"
        f"TypesConfig {folder}/mime.types\nMutex file:{folder}\n{configuration}\n"
    )
    for each in (folder, *folder.parents):
        with contextlib.suppress(OSError):
            if str(each).startswith("/tmp/") or "pytest" in str(each):
                each.chmod(0o755)
    with running([program, "-X", "-f", str(folder / "apache.conf")], port, folder):
        yield
