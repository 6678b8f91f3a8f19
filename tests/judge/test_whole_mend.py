"""All lines of a review at once."""

import msgspec

from pewter.judge.results import Results
from pewter.judge.review import make_review
from pewter.judge.whole_mend import whole_mend
from pewter.levels import Level
from pewter.report.whole_mend import render_whole_mend
from support.cases import case, hop, journey
from support.certificates import HOST

HTTP, HTTPS = f"http://{HOST}/", f"https://{HOST}/"
NGINX, DJANGO = ("Server", "nginx/1.22.1"), ("Set-Cookie", "sessionid=1; Path=/")
SHORT = ("Strict-Transport-Security", "max-age=60; includeSubDomains")


def results(*ways):
    return make_review(case(*ways)).results


def told(found: Results) -> str:
    return render_whole_mend(found, 100, again="pewter recheck r.json").plain


def test_each_block_once_with_all_that_belongs_in_it():
    found = results(
        journey(hop(HTTP, 302, NGINX, ("Location", HTTPS)), hop(HTTPS, 200, NGINX, SHORT)),
        journey(hop(HTTPS, 200, NGINX, SHORT, ("Set-Cookie", "sid=1; Path=/"))),
    )
    (program,) = whole_mend(found).programs
    assert program.server == "nginx"
    blocks = {block.where: [(put.how, put.piece.lines, put.gaps) for put in block.puts] for block in program.blocks}
    secure = f"in the server block for port 443 of {HOST}"
    passing = f"in the location of {HOST} that passes to the application"
    assert [each[1] for each in blocks[passing]] == ["proxy_cookie_flags sid httponly samesite=lax secure;"]
    (flags,) = blocks[passing]
    assert len(flags[2]) == 3  # one line for three gaps
    (policy,) = blocks[secure]
    assert policy[0] == "in place of every add_header Strict-Transport-Security, those in its locations too"
    assert (
        policy[1].splitlines()[-1]
        == 'add_header Strict-Transport-Security "max-age=31536000; includeSubDomains" always;'
    )
    text = told(found)
    assert text.count("proxy_cookie_flags sid") == 1
    assert text.index("nginx -t && nginx -s reload") < text.index("Then: pewter recheck r.json")


def test_of_two_programs_the_first_choice_alone():
    found = results(
        journey(hop(HTTP, 200, NGINX, DJANGO)), journey(hop(HTTPS, 200, NGINX, DJANGO, ("Server", "nginx")))
    )
    rules = {entry.number: entry.rule for entry in found.gaps}
    by_server = {
        program.server: {rules[gap] for block in program.blocks for put in block.puts for gap in put.gaps}
        for program in whole_mend(found).programs
    }
    assert "redirect/missing" in by_server["nginx"]
    assert "redirect/missing" not in by_server["Django"]
    assert "cookie/not-secure" in by_server["Django"]


def test_what_waits_and_what_has_no_lines_is_told():
    found = results(journey(hop(HTTP, 200, NGINX)), journey(hop(HTTPS, 302, NGINX, ("Location", HTTP)), hop(HTTP, 200)))
    mend = whole_mend(found)
    assert {later.rule for later in mend.later} >= {"redirect/missing"}
    assert all(later.reason.startswith("not yet: ") for later in mend.later)
    assert all(entry.level is not Level.NOTE and not entry.configurations for entry in mend.without_lines)


def test_nothing_to_mend():
    sound = msgspec.structs.replace(results(journey(hop(HTTPS, 200))), gaps=())
    assert told(sound).strip() == "Nothing that weakens, exposes or breaks: no line is needed."
