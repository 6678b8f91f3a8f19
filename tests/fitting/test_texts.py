"""The readers of configurations: hostile and broken text, spans that are true, nginx's against another reader's."""

import itertools
import random
import tomllib
from pathlib import Path

import crossplane
import pytest

from pewter.errors import FileError, UsageError
from pewter.fitting.apache_text import APACHE
from pewter.fitting.caddy_text import CADDY
from pewter.fitting.fit import grammar_of, kind_of
from pewter.fitting.haproxy_text import HAPROXY
from pewter.fitting.lighttpd_text import LIGHTTPD, elements
from pewter.fitting.nginx_text import NGINX
from pewter.fitting.tree import BrokenError, Tree
from pewter.mends.kinds import Kind
from pewter.plan.server_files import read_server_files

REAL = tomllib.loads((Path(__file__).parents[1] / "mends" / "real.toml").read_text(encoding="utf-8"))["site"]
TEXTS = [
    (Kind(site["kind"]), text.replace("{folder}", "/f"))
    for site in REAL
    for name, text in site["files"].items()
    if not name.startswith("site/")
]


def whole(nodes):
    return [(node.words, whole(node.inside)) for node in nodes]


@pytest.mark.parametrize(("kind", "text"), TEXTS)
def test_each_node_is_where_it_says(kind, text):
    for node in Tree(grammar_of(kind), {"c": text}, ["c"], {}).walk():
        assert text[node.start : node.end].strip() == text[node.start : node.end]
        assert text[node.start :].lower().lstrip("<\"'").startswith(node.name[:3].lower().strip("\"'"))
        if node.body is not None:
            assert node.start <= node.body[0] <= node.body[1] <= node.end
            assert all(node.body[0] <= inner.start < inner.end <= node.body[1] for inner in node.inside)


@pytest.mark.parametrize("text", [text for kind, text in TEXTS if kind is Kind.NGINX])
def test_nginx_is_read_as_crossplane_reads_it(text, tmp_path):
    (tmp_path / "c").write_text(text)
    read = crossplane.parse(str(tmp_path / "c"), single=True, check_ctx=False, check_args=False, comments=False)

    def theirs(block):
        return [((each["directive"], *each["args"]), theirs(each.get("block", []))) for each in block]

    def words(nodes):
        # It takes the parentheses of a condition away.
        return [((each[0], *_bare(each)), inner) for each, inner in nodes]

    def both(nodes):
        return [(each, both(inner)) for each, inner in words(nodes)]

    assert both(whole(NGINX.parse(text))) == both(theirs(read["config"][0]["parsed"]))


def _bare(words):
    if words[0] != "if":
        return words[1:]
    return tuple(" ".join(words[1:]).strip("() ").split())


@pytest.mark.parametrize(("kind", "text"), TEXTS)
def test_whose_it_is_shows(kind, text):
    assert kind_of(text) in {kind, None}


@pytest.mark.parametrize("kind", [Kind.NGINX, Kind.APACHE, Kind.HAPROXY, Kind.CADDY, Kind.LIGHTTPD])
def test_changed_at_random_it_is_read_or_refused(kind):
    chance = random.Random(kind.value)
    texts = [text for of, text in TEXTS if of is kind]
    marks = [
        "{",
        "}",
        ";",
        '"',
        "'",
        "\\",
        "\n",
        "(",
        ")",
        "<",
        ">",
        "$",
        "#",
        "\0",
        "\udcff",
        "=>",
        "</VirtualHost>",
        "<<E\n",
        "`",
    ]
    for _ in range(2_000):
        text = chance.choice(texts)
        for _ in range(chance.randint(1, 4)):
            at, to = sorted((chance.randrange(len(text)), chance.randrange(len(text))))
            text = text[:at] + chance.choice(marks) + text[at if chance.random() < 0.7 else min(to, at + 40) :]
        try:
            tree = Tree(grammar_of(kind), {"c": text}, ["c"], {})
        except BrokenError as exc:
            assert 0 <= exc.at <= len(text)
        else:
            assert tree.edited([]).texts == tree.texts


DEEP = 100_000


@pytest.mark.parametrize(
    ("grammar", "text", "words"),
    [
        (NGINX, "a {" * DEEP, "blocks lie too deep"),
        (NGINX, "a { b", "it is never closed"),
        (NGINX, "a b", "a ; is missing"),
        (NGINX, "}", "a } without its {"),
        (NGINX, "a 'b", "a quote is never closed"),
        (NGINX, "x_by_lua_block { {", "it is never closed"),
        (APACHE, "<A>\n" * DEEP, "sections lie too deep"),
        (APACHE, "<A>\n</B>", "</B> without its beginning"),
        (APACHE, "<A>", "<a> is never closed"),
        (CADDY, "a {\n" * DEEP, "blocks lie too deep"),
        (CADDY, "a {\n", "it is never closed"),
        (CADDY, "a <<E\nb", "a text of several lines is never closed"),
        (LIGHTTPD, '$HTTP["a"] == "b" {' * DEEP, "it lies too deep"),
        (LIGHTTPD, "a = (", "its list is never closed"),
        (LIGHTTPD, '$HTTP["a"]', "a condition without a block"),
    ],
)
def test_what_is_none_is_refused_in_words(grammar, text, words):
    with pytest.raises(BrokenError) as raised:
        grammar.parse(text)
    assert raised.value.words == words


def test_what_a_file_may_be(tmp_path):
    """A circle of includes, many of them, what lies outside, and what is no configuration."""

    def read(text, server="nginx", **files):
        folder = tmp_path / f"f{next(number)}"
        folder.mkdir()
        for name, content in {"c": text, **files}.items():
            (folder / name).write_text(content)
        said = []
        _, tree, _ = read_server_files([folder / "c"], server, said.append)
        return tree, [each.replace(str(folder), "FOLDER") for each in said]

    number = itertools.count()
    (tmp_path / "outside").write_text("secret a;")
    tree, said = read("include ../outside; include /etc/passwd; include gone; include *.none;")
    assert list(tree.texts) == ["c"]
    assert said == [f"c: {each} is not in FOLDER, and not read" for each in ("../outside", "/etc/passwd", "gone")]
    with pytest.raises(FileError, match="c, line 1, cannot be read as a configuration of nginx: it includes itself"):
        read("include c;")
    with pytest.raises(FileError, match="there are more than 50000 directives"):
        read("include a;" * 300, a="include b;" * 300, b="x y;")
    with pytest.raises(FileError, match="d, line 3, cannot be read as a configuration of nginx: a ; is missing"):
        read("include d;", d="\n\nx }")
    with pytest.raises(UsageError, match="whose configuration it is does not show; say --server KIND"):
        read("nothing of the kind", server="")
    with pytest.raises(FileError, match="is longer than 1 MiB, which is no server's configuration"):
        read("#" * (1 << 21))


def test_the_words_of_haproxy_as_they_are_meant():
    (section,) = HAPROXY.parse("frontend a # b\n  acl x path 'a b' \"c # d\" e\\ f # g\n")
    assert section.inside[0].words == ("acl", "x", "path", "a b", "c # d", "e f")


def test_the_elements_of_a_list():
    assert [each.key for each in elements('( "a" => "b, c", "d" => ( "e" => 1, "f" => 2 ), "g" )')] == ["a", "d", "g"]
    assert elements('"a"') == []
