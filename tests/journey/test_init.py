"""``init``: the file that it writes is one that ``review`` goes by."""

import tomllib

from pewter.lab.web_server import Response, VirtualHost
from support.certificates import root
from support.looks import CHAIN, world
from support.program import pewter

WWW, APEX = "www.marram-ferries.example", "marram-ferries.example"


def shows(request):
    if request.scheme == "http" or request.host == APEX:
        return Response(301, (("Location", f"https://{WWW}{request.target}"),))
    return Response(200, (("Content-Type", "text/html"),), b"<a href=/account/login>Log in</a>")


def test_init_writes_a_file_that_review_accepts_unchanged(tmp_path):
    (tmp_path / "root.pem").write_bytes(root().pem)
    with world({WWW: VirtualHost(shows, CHAIN), APEX: VirtualHost(shows, CHAIN)}) as running:
        reach = [part for route in running.routes for part in ("--route", route)]
        typed = ("init", WWW, *reach, "--resolver", running.resolver, "--trust", "root.pem", "--path", "/timetable")
        first = pewter(*typed, folder=tmp_path)
        assert first.returncode == 0, first.stderr
        written = (tmp_path / "pewter.toml").read_text()
        found = tomllib.loads(written)
        assert found["site"]["canonical"] == f"https://{WWW}"
        assert found["site"]["names"] == [APEX]
        assert found["site"]["paths"] == ["/", "/timetable", "/account/login"]
        assert found["look"]["trust"] == ["root.pem"]
        assert found["expect"]["addresses"] == {WWW: ["192.0.2.10"], APEX: ["192.0.2.10"]}
        assert "# [[accept]]" in written
        assert "accept" not in found

        review = pewter("review", folder=tmp_path)
        assert review.returncode in {0, 1}, review.stderr
        assert "using pewter.toml" in review.stderr
        assert "dns/unexpected-address" not in review.stdout

        again = pewter(*typed, folder=tmp_path)
        assert (again.returncode, "pewter.toml is there already." in again.stderr) == (2, True)
        assert (tmp_path / "pewter.toml").read_text() == written
        assert pewter(*typed, "--force", folder=tmp_path).returncode == 0
        assert (tmp_path / "pewter.toml").read_text() == written


def test_a_site_that_is_not_there_writes_nothing(tmp_path):
    run = pewter("init", "gone.example", "--resolver", "127.0.0.1:9", folder=tmp_path)
    assert run.returncode == 3
    assert list(tmp_path.iterdir()) == []
