"""The report on a terminal: order, widths, shapes, and nothing hostile in it."""

import msgspec
import pytest
from hypothesis import given
from hypothesis import strategies as st

from pewter.escape import escaped, json_escaped
from pewter.evidence import (
    Answer,
    Fault,
    HowFailed,
    Lookup,
    Name,
    NoConnection,
    NotContacted,
    Reference,
    Seen,
    StopCause,
    Use,
)
from pewter.expectations import AcceptedGap, Terms
from pewter.judge.review import make_review
from pewter.lab.authority import DAY, issue_server
from pewter.report.many import _kind_of_error
from pewter.report.sheet import ASCII, UNICODE, wrap
from pewter.report.terminal import render_terminal
from support.cases import case, endpoint, handshake, hop, journey, name, page, stopped, stored, unseen
from support.certificates import HOST, NOW, intermediate, key, leaf

HTTP, HTTPS = f"http://{HOST}/", f"https://{HOST}/"
HSTS = ("Strict-Transport-Security", "max-age=31536000")


def rendered(*ways, width=100, marks=UNICODE, **options):
    return render_terminal(make_review(case(*ways, **options)), width, marks).plain


def clean(**options):
    good = hop(HTTPS, 200, HSTS)
    ways = (journey(hop(HTTP, 301, ("Location", HTTPS)), good), journey(good))
    return rendered(*ways, endpoints=[endpoint(handshake())], connections=6, **options)


def test_clean_site_in_full():
    assert clean() == (
        f"✓ {HOST}: No gap found: visitors arrive safely.\n"
        "  (1 name, 6 connections, 0.5 s)\n"
        "\n"
        f"Ways in  canonical: https://{HOST} (worked out); as a private window sees it\n"
        f"  ✓ {HOST}  2 ways in, all open · 192.0.2.10, HSTS max-age=31536000\n"
        "\n"
        "Certificates  judged for 2026-11-23 12:00 UTC\n"
        f"  ✓ {HOST}  EC P-256, SHA-256 {stored(leaf())[0].sha256[:8]}\n"
        "    path      leaf ← Intermediate ← Root (test store): whole as served\n"
        "    life      ████████░░░░░░░░│░░░░░░░░ 60 of 90 days left, until 2027-01-22, renewal due 2026-12-23\n"
        "\n"
        "Areas  checks that hold, of those that could be made\n"
        "  ✓ reach 9 · redirect 17 · chain 16 · name 4 · date 5 · protocol 4 · hsts 7 · page 1\n"
        "\n"
        "Next\n"
        "  → Nothing to mend. Look again before the earliest certificate is due for renewal.\n"
    )


def faulty(**options):
    ways = (
        journey(hop(HTTP, 200, ("Server", "nginx"))),
        journey(hop(HTTPS, 200)),
        stopped("https://x.example/", StopCause.NO_CONNECTION),
        unseen("http://x.example/"),
    )
    names = (name(HOST), name("x.example"))
    endpoints = (
        endpoint(handshake(leaf(HOST, left=-4), intermediate())),
        endpoint(NoConnection(HowFailed.REFUSED, "refused")),
    )
    accept = (AcceptedGap("hsts/absent", HOST, "an old device", NOW.date()),)
    return rendered(
        *ways,
        names=names,
        endpoints=endpoints,
        certificates=stored(leaf(HOST, left=-4)),
        terms=Terms(accept=accept, canonical=f"https://{HOST}"),
        not_contacted=(NotContacted("http://10.0.0.1/", "10.0.0.1 is private"),),
        environment_proxy="HTTPS_PROXY",
        **options,
    )


def test_parts_stand_in_the_order_of_the_design():
    text = faulty()
    parts = ["■ www.", "\nDo first", "\nGaps", "\nWays in", "\nCertificates", "\nAreas"]
    parts += ["\nNot checked", "\nAccepted", "\nNext"]
    places = [text.index(part) for part in parts]
    assert places == sorted(places)
    for words in (
        "Visitors of www.marram-ferries.example are stopped or warned: certificate expired.", "stays unencrypted", "expired 2026-11-19", "worst first",
        "1 ■ breaks ", "redirect/missing", "For nginx,", "curl -s -o /dev/null -D - http://", "not reached", "http://10.0.0.1/ was not contacted",
        "HTTPS_PROXY is set", "until 2026-11-23: an old device", "1 Renew the certificate and reload the server at www.marram-ferries.example (gap 1)",
    ):  # fmt: skip
        assert words in " ".join(text.split()), words


@pytest.mark.parametrize("width", [20, 40, 60, 80, 97, 120, 400])
def test_lines_keep_to_the_width_but_for_what_cannot_be_broken(width):
    allowed = max(48, min(width, 120))
    for line in faulty(width=width).splitlines():
        assert len(line) <= allowed or "check " in line or "  server {" in line or line.startswith(" " * 15), line


def test_ascii_shapes():
    assert faulty(marks=ASCII).isascii()
    assert faulty(marks=ASCII).startswith("B www.")


@pytest.mark.parametrize(
    ("octets", "shown"),
    [
        ("\x1b[31mred\x07", "\\x1b[31mred\\x07"),
        ("a\x9bb\x7f", "a\\x9bb\\x7f"),
        ("left\u202eright\u2066\u200b", "left\\u202eright\\u2066\\u200b"),
        ("plain caf\xe9 \u6f22", "plain caf\xe9 \u6f22"),
        ("two\nlines\r", "two\\x0alines\\x0d"),
        ("a\u2028b\u2029c\x85", "a\\u2028b\\u2029c\\x85"),
        ("soft\xadhyphen \xa0\u2003", "soft\\xadhyphen \\xa0\\u2003"),
        ("\U000e0041tag \ufe0fselector \U000e0101", "\\U000e0041tag \\ufe0fselector \\U000e0101"),
        ("\u3164\u115f\uffa0\u2800\u034f", "\\u3164\\u115f\\uffa0\\u2800\\u034f"),
        ("\ud800\ue000\uffff", "\\ud800\\ue000\\uffff"),
        ("e\u0301 a" + "\u0301" * 4, "e\u0301 a\u0301\u0301\\u0301\\u0301"),
    ],
)
def test_hostile_text_is_written_out(octets, shown):
    assert escaped(octets) == shown


@given(st.recursive(st.text(), lambda inner: st.lists(inner) | st.dictionaries(st.text(), inner), max_leaves=6))
def test_json_keeps_its_meaning_and_shows_itself(content):
    octets = msgspec.json.encode(content)
    shown = json_escaped(octets)
    assert msgspec.json.decode(shown) == content
    assert shown.decode("utf-8").isprintable()


@given(st.text())
def test_whatever_is_escaped_shows_itself_and_stays(text):
    shown = escaped(text)
    assert shown.isprintable()
    assert escaped(shown) == shown


@pytest.mark.parametrize(
    ("text", "room", "lines"),
    [
        ("one two three", 9, ["one two", "three"]),
        ("", 9, [""]),
        ("a" * 12 + " b", 5, ["aaaaa", "aaaaa", "aa b"]),
        ("\uff37\uff37\uff37 x", 5, ["\uff37\uff37", "\uff37 x"]),
    ],
)
def test_lines_are_wrapped_by_columns_and_long_words_broken(text, room, lines):
    assert wrap(text, room) == lines


def test_nobody_else_begins_a_line():
    """A line end in a name, an address, an issuer or a reason stays within its line."""
    evil = "x\nFAKE\r\n\u2028FAKE"
    hostile = issue_server([HOST], intermediate(), NOW - DAY, NOW + DAY, key=key("leaf"), common_name="x\nFAKE")
    accepted = AcceptedGap("redirect/missing", HOST, evil, NOW.date())
    shown = page(HTTPS, references=(Reference(f"http://x.example/{evil}", Use.SCRIPT, evil),), debug_signs=(evil,))
    text = rendered(
        journey(hop(HTTP, 200, ("Server", evil))), journey(hop(HTTPS, 200, ("Set-Cookie", evil), issued=hostile, page=shown.sha256)),
        pages=(shown,), endpoints=[endpoint(handshake(hostile, intermediate()))], certificates=stored(hostile), terms=Terms(accept=(accepted,)),
        not_contacted=(NotContacted(evil, evil),),
    )  # fmt: skip
    assert "FAKE" in text
    assert not [line for line in text.splitlines() if line.strip().startswith("FAKE")]


def test_ten_thousand_checks_of_one_area_fit():
    assert " of 10005 " in rendered(*(journey(f"{HTTP}{n}") for n in range(2001)))


def test_of_thousands_of_gaps_the_worst_are_shown():
    ways = [journey(hop(f"{HTTPS}{n}", 200, ("Set-Cookie", f"c{n}=1"))) for n in range(400)]
    text = rendered(*ways)
    assert "  · and 901 more gaps: --write FILE.json holds them all" in text.splitlines()
    assert len(text.splitlines()) < 4300


def test_nothing_that_a_server_sends_reaches_the_terminal_unescaped():
    evil = "\x1b]0;owned\x07\u202e"
    hostile = issue_server(
        [f"a{n}.example" for n in range(2000)], intermediate(), NOW - DAY, NOW + DAY, key=key("leaf"), common_name=evil
    )
    ways = (
        journey(hop(HTTP, 200, ("Server", evil), HSTS)),
        journey(hop(HTTPS, 200, ("Strict-Transport-Security", evil), ("Date", evil), issued=hostile)),
    )
    text = rendered(*ways, endpoints=[endpoint(handshake(hostile, intermediate()))], certificates=stored(hostile))
    assert not set(text) & {"\x1b", "\x07", "\u202e"}
    assert "and 1,996 more" in text


def test_nothing_seen_says_so():
    text = rendered(
        stopped(HTTPS, StopCause.NO_CONNECTION), endpoints=[endpoint(NoConnection(HowFailed.REFUSED, "refused"))]
    )
    assert text.startswith(f"? {HOST}: The site could not be reviewed: nothing of it answered.")


def test_interrupted_look_says_so():
    assert "Interrupted: what follows is only what had been seen by then." in rendered(journey(HTTPS), interrupted=True)


def test_same_review_gives_the_same_octets():
    assert faulty() == faulty()


def test_what_is_supposed_led_and_left_is_said():
    links = page(HTTPS, inner_links=("/", "/fares", "/login"))
    good = hop(HTTPS, 200, HSTS, page=links.sha256)
    ways = (journey(hop(HTTP, 301, ("Location", HTTPS)), good), journey(good))
    text = rendered(
        *ways, endpoints=[endpoint(handshake())], connections=6, pages=(links,), terms=Terms(suppose=("hsts",)),
        routes=(f"{HOST}:443=127.0.0.1:8443", f"{HOST}:80=127.0.0.1:8080"),
        faults=(Fault("page/x", "KeyError: 'x'"),),
    )  # fmt: skip
    for words in (
        "Supposed (--suppose hsts): every name sends Strict-Transport-Security: max-age=31536000; includeSubDomains. This is so only then.",
        "6 connections, 0.5 s; led by 2 routes)",
        "192.0.2.10, HSTS max-age=31536000; includeSubDomains (supposed)",
        f"https://{HOST}: 2 linked pages not looked at: /fares, /login (--path adds one)",
        "page/x: a fault of Pewter's own, which says nothing of the site (KeyError: 'x')",
    ):  # fmt: skip
        assert words in " ".join(text.split())


def test_one_cause_of_several_gaps_is_named_first():
    own = [Reference(f"http://{HOST}/{use.value}", use, "somewhere") for use in (Use.SCRIPT, Use.IMAGE, Use.LINK)]
    shown = page(HTTPS, references=tuple(own))
    text = rendered(
        journey(hop(HTTPS, 200, HSTS, page=shown.sha256)), pages=(shown,), endpoints=[endpoint(handshake())]
    )
    words = f"point to one cause: what makes the pages takes its own address to be http://{HOST}. Set it to https"
    told = " ".join(text.split())
    assert told.index("Gaps worst first") < told.index(words) < told.index("page/blocked-content")


# In brief


def three_names():
    """A site of three names: one opens, one stays on http with an accepted gap, one has no address."""
    good = hop(HTTPS, 200, ("Strict-Transport-Security", "max-age=31536000; includeSubDomains"))
    other = "shop.marram-ferries.example"
    ways = (journey(hop(HTTP, 301, ("Location", HTTPS)), good), journey(good), journey(hop(f"http://{other}/")))
    return make_review(
        case(
            *ways,
            names=(
                name(HOST),
                name(other),
                Name("gone.marram-ferries.example", lookups=(Lookup("A", Seen(Answer("NXDOMAIN"))),)),
            ),
            endpoints=[endpoint(handshake())],
            terms=Terms(accept=(AcceptedGap("redirect/missing", other, "an old till", NOW.date()),)),
            connections=9,
        )
    )


def test_the_table_of_names():
    text = render_terminal(three_names(), 110, UNICODE, full=False).plain
    table = text[text.index("\n3 names") + 1 : text.index("\n\n", text.index("\n3 names"))].splitlines()
    assert table == [
        "3 names",
        "                                 lands on    certificate           HSTS        worst gap",
        f"  ✓ {HOST}   itself      60 d, due 2026-12-23  365 d, sub  none",
        "  ■ gone.marram-ferries.example  no address  -                     -           no address",
        "  ○ with accepted gaps alone: shop.marram-ferries.example",
    ]


def test_the_table_of_names_is_a_line_each_however_narrow():
    """First the renewal dates go, then the policy, then what is landed on; long names are cut in their middle."""
    for width, heads in (
        (90, "certificate           HSTS"),
        (80, "certificate  HSTS"),
        (72, "certificate  worst gap"),
        (60, "lands on    worst gap"),
    ):
        text = render_terminal(three_names(), width, UNICODE, full=False).plain
        lines = text[text.index("\n3 names") + 1 : text.index("\n\n", text.index("\n3 names"))].splitlines()
        assert len(lines) == 5, (width, lines)
        assert heads in lines[1], (width, lines[1])
        assert all(len(line) <= width for line in lines)
    long = "a-name-that-goes-on-for-longer-than-a-table-has-room.marram-ferries.example"
    ways = [journey(hop(f"https://{each}/")) for each in (HOST, long, f"b.{long}")]
    text = render_terminal(make_review(case(*ways, names=[name(HOST), name(long), name(f"b.{long}")])), 80, UNICODE)
    assert all(
        len(line) <= 80 for line in text.plain.splitlines()[: text.plain[: text.plain.index("Gaps")].count("\n")]
    )


def test_two_names_have_no_table():
    assert " names\n" not in clean()
    assert "2 ways in, all open" in clean()


@pytest.mark.parametrize("width", [80, 100, 120])
def test_in_brief_lines_keep_to_the_width_and_only_what_is_lesser_is_left_out(width):
    review = make_review(reviewed_with_faults())
    brief, full = (render_terminal(review, width, UNICODE, full=each).plain for each in (False, True))
    assert len(brief.splitlines()) < len(full.splitlines())
    for entry in review.results.gaps:
        assert review.results.titles[entry.rule] in brief or review.results.shorts[entry.rule] in brief
        is_told = " ".join(entry.why.split()[:4]) in " ".join(brief.split())
        assert is_told == (entry.level.value in {"breaks", "exposes"}), entry.rule
    assert all(len(line) <= width or "check " in line or line.startswith(" " * 15) for line in brief.splitlines())
    assert "→ --full shows every gap with its mend" in brief
    assert (
        brief.index("\nDo first\n")
        < brief.index("\nGaps")
        < brief.index("\nSeen")
        < brief.index("\n  → pewter explain")
    )


@pytest.mark.parametrize(("width", "most"), [(80, 33), (120, 25)])
def test_a_site_with_one_gap_fits_on_a_small_screen(width, most):
    server = ("Server", "nginx")
    good, bare = hop(HTTPS, 200, HSTS, server), hop(HTTPS, 200, server)
    moved = journey(hop(HTTP, 301, ("Location", HTTPS), server), good)
    sites = {
        "no redirect": ((journey(hop(HTTP, 200, server)), journey(good)), leaf(), intermediate()),
        "temporary": ((journey(hop(HTTP, 302, ("Location", HTTPS), server), good), journey(good)), leaf(), intermediate()),
        "no policy": ((journey(hop(HTTP, 301, ("Location", HTTPS), server), bare), journey(bare)), leaf(), intermediate()),
        "incomplete": ((moved, journey(good)), leaf()),
    }  # fmt: skip
    for title, (ways, *sent) in sites.items():
        review = make_review(case(*ways, endpoints=[endpoint(handshake(*sent))]))
        assert len(review.results.gaps) == 1
        text = render_terminal(review, width, UNICODE, full=False).plain
        assert len(text.splitlines()) <= most, f"{title}\n{text}"


def reviewed_with_faults():
    ways = (journey(hop(HTTP, 200, ("Server", "nginx"))), journey(hop(HTTPS, 200)))
    expired = leaf(HOST, left=-4)
    return case(
        *ways, names=(name(HOST),), endpoints=[endpoint(handshake(expired, intermediate()))], certificates=stored(expired)
    )  # fmt: skip


@pytest.mark.parametrize(
    ("error", "kind"),
    [
        (None, "not known"),
        ("port 443: the connection was refused", "port 443: the connection was refused"),
        ("not contacted: 10.0.0.1 is a private address", "not contacted: a private address"),
        ("a fault of Pewter's own: KeyError: 'x'", "a fault of Pewter's own"),
        ("\x1b[31m" + "x" * 200, "\\x1b[31m" + "x" * 92),
    ],
)
def test_sites_that_were_not_reached_are_counted_by_cause(error, kind):
    assert _kind_of_error(error) == kind
