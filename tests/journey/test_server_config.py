"""``--server-config``: the built program on a saved review and a folder of configuration, offline; ``patch`` applies it."""

import re
import shutil
import subprocess

import pytest

from pewter.judge.review import make_review, write_review
from support.cases import case, hop, journey
from support.certificates import HOST
from support.program import pewter

HTTP, HTTPS, NGINX = f"http://{HOST}/", f"https://{HOST}/", ("Server", "nginx/1.22.1")
SITE = f"""server {{
    listen 80;
    server_name {HOST};
    location / {{ proxy_pass http://127.0.0.1:8000; }}
}}
server {{
    listen 443 ssl;
    server_name {HOST};
    set $api_key "hunter2";
    location / {{ proxy_pass http://127.0.0.1:8000; }}
}}
"""


@pytest.fixture
def folder(tmp_path):
    page = hop(HTTPS, 200, NGINX, ("Strict-Transport-Security", "max-age=60"))
    made = make_review(case(journey(hop(HTTP, 302, NGINX, ("Location", HTTPS)), page), journey(page)))
    (tmp_path / "review.json").write_bytes(write_review(made))
    (tmp_path / "etc" / "sites").mkdir(parents=True)
    (tmp_path / "etc" / "nginx.conf").write_text("events { }\nhttp {\n    include sites/*;\n}\n")
    (tmp_path / "etc" / "sites" / "site").write_text(SITE)
    return tmp_path


def test_it_says_where_and_patch_takes_it(folder):
    run = pewter(
        "explain", "--from", "review.json", "--server-config", "etc/nginx.conf", "-w", "mend.diff", folder=folder
    )
    assert (run.returncode, run.stderr) == (0, "pewter: wrote mend.diff\n")
    assert re.search(r"sites/site:1  gap [0-9]+ redirect/temporary\n", run.stdout)
    assert re.search(r"sites/site:6  gap [0-9]+ hsts/short\n", run.stdout)
    assert "patch -d etc -p1 --dry-run < mend.diff && patch -d etc -p1 < mend.diff" in run.stdout
    assert "hunter2" not in run.stdout + (folder / "mend.diff").read_text()
    subprocess.run(["patch", "-s", "-d", "etc", "-p1", "-i", "../mend.diff"], cwd=folder, check=True)
    after = (folder / "etc" / "sites" / "site").read_text()
    assert f"    location / {{ return 301 https://{HOST}$request_uri; }}\n" in after
    assert '    add_header Strict-Transport-Security "max-age=31536000" always;\n' in after
    again = pewter("explain", "--from", "review.json", "--server-config", "etc/nginx.conf", folder=folder)
    assert (again.returncode, "What changes in" in again.stdout) == (0, False)


def test_other_commands_show_it_behind_the_report_and_keep_nothing_of_it(folder):
    run = pewter("report", "review.json", "--server-config", "etc/nginx.conf", folder=folder)
    assert run.stdout.index("Fitted to the configuration of nginx") > run.stdout.index("hsts/short")
    written = ("-w", "again.json", "-w", "mend.diff")
    run = pewter("judge", "review.json", "--server-config", "etc/nginx.conf", *written, folder=folder)
    assert "wrote mend.diff" in run.stderr
    assert b"hunter2" not in (folder / "again.json").read_bytes()
    assert b"sites/site" not in (folder / "again.json").read_bytes()


@pytest.mark.parametrize(
    ("arguments", "words"),
    [
        (("--server-config", "none"), "none cannot be read: No such file or directory."),
        (("--server-config", "etc"), "etc is a folder; name the files in it."),
        (("--server-config", "review.json"), "whose configuration it is does not show; say --server KIND"),
        (
            ("--server-config", "caddyfile"),
            "this is a configuration of Caddy, and of this review its lines are for nginx",
        ),
        (
            ("--server-config", "broken"),
            "broken, line 2, cannot be read as a configuration of nginx: it is never closed",
        ),
        (("--write", "mend.diff"), "--write mend.diff: a diff is of a configuration: --server-config FILE."),
        (("--server-config", "etc/nginx.conf", "--write", "none/mend.diff"), "none/mend.diff cannot be written"),
    ],
)
def test_mistakes(folder, arguments, words):
    (folder / "caddyfile").write_text("x.example {\n    reverse_proxy localhost:1\n}\n")
    (folder / "broken").write_text("http {\nserver {\n")
    run = pewter("explain", "--from", "review.json", *arguments, folder=folder)
    assert (run.returncode, run.stdout) == (2, "")
    assert words in run.stderr
    assert "Traceback" not in run.stderr


def test_the_files_that_were_read_are_as_they_were(folder):
    shutil.copytree(folder / "etc", folder / "was")
    pewter("explain", "--from", "review.json", "--server-config", "etc/nginx.conf", "-w", "mend.diff", folder=folder)
    assert subprocess.run(["diff", "-r", "etc", "was"], cwd=folder, check=False).returncode == 0
