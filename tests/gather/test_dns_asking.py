"""Questions to hostile name servers: a stated outcome, in time."""

import asyncio
import collections
import os
import socket
import struct
import subprocess
import sys
import threading
import time

import dns.edns
import dns.flags
import dns.message
import dns.name
import dns.rcode
import dns.rrset
import pytest
from hypothesis import given
from hypothesis import strategies as st

from pewter.evidence import Plan, Record, Reply, Target, Unanswered, Way
from pewter.gather import hosts_file
from pewter.gather.budget import Budget
from pewter.gather.dns_asking import MAX_QUESTIONS, Asker
from pewter.gather.name_service import resolvers_in
from pewter.gather.network import Network
from pewter.gather.routes import Destination
from pewter.gather.slots import Slots
from pewter.names.messages import MAX_RECORDS, build_query, read_reply
from pewter.octets import DecodeError

QUERY = build_query("x.example", "A", 7, recursion=False, unchecked=False, edns=True, signed=False)


def answered(octets=QUERY, *records, flags=dns.flags.AA):
    response = dns.message.make_response(dns.message.from_wire(octets))
    response.flags |= flags
    for name, kind, *data in records:
        response.answer.append(dns.rrset.from_text(name, 60, "IN", kind, *data))
    return response.to_wire(max_size=65535)


def with_id(octets, query):
    return query[:2] + octets[2:]


GOOD = ("x.example.", "A", "192.0.2.7")
PEERS = {
    "answers": (lambda query: [answered(query, GOOD)], "NOERROR"),
    "wrong-id-then-right": (lambda query: [struct.pack("!H", 1 + query[0] % 9) + answered(query, GOOD)[2:], answered(query, GOOD)], "NOERROR"),
    "other-question-then-right": (lambda query: [with_id(answered(build_query("y.example", "A", 1, recursion=False, unchecked=False, edns=True, signed=False)), query), answered(query, GOOD)], "NOERROR"),
    "a-flood-of-strays": (lambda query: [os.urandom(40)] * 80, Unanswered.STRAY),
    "a-query-back": (lambda query: [query], Unanswered.SILENT),
    "silent": (lambda query: [], Unanswered.SILENT),
    "compression-loop": (lambda query: [query[:2] + b"\x84\x00\x00\x01\x00\x01\0\0\0\0" + query[12:27] + b"\xc0\x1b" * 30], "NOERROR"),
    "truncated-mid-record": (lambda query: [answered(query, GOOD)[:-8]], "NOERROR"),
    "servfail-without-question": (lambda query: [query[:2] + b"\x84\x02" + b"\0" * 8], "SERVFAIL"),
    "a-thousand-records": (lambda query: [answered(query, ("x.example.", "A", *(f"10.0.{n // 256}.{n % 256}" for n in range(1000))))], "NOERROR"),
}  # fmt: skip


class Peer:
    """Answers each datagram with those of a function."""

    def __init__(self, replies):
        self.replies = replies
        self.socket = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        self.socket.bind(("127.0.0.1", 0))
        self.port = self.socket.getsockname()[1]

    def __enter__(self):
        threading.Thread(target=self._run, daemon=True).start()
        return self

    def _run(self):
        try:
            while True:
                query, there = self.socket.recvfrom(4096)
                for octets in self.replies(query):
                    self.socket.sendto(octets, there)
        except OSError:
            pass

    def __exit__(self, *_):
        self.socket.close()


def ask(port, *ways, name="x.example", kind="A"):
    async def run():
        asker = Asker(Slots(8), os.urandom)
        number = asker.add_server(Destination("192.0.2.53", 53, "127.0.0.1", port), "ns.x.example")
        replies = [await asker.ask(number, name, kind, way) for way in ways or (Way.DIRECT,)]
        return replies, asker.seen()

    return asyncio.run(run())


@pytest.mark.parametrize("title", PEERS)
def test_hostile_peers(title, monkeypatch):
    monkeypatch.setattr("pewter.gather.dns_asking.TRY_SECONDS", 0.4)
    replies, expected = PEERS[title]
    begun = time.monotonic()
    with Peer(replies) as peer:
        (reply,), seen = ask(peer.port)
    assert (reply.rcode if isinstance(reply, Reply) else reply) == expected
    assert time.monotonic() - begun < 5
    assert len(seen.questions) == 1


def test_a_silent_server_is_known_as_such_after_its_first_question(monkeypatch):
    monkeypatch.setattr("pewter.gather.dns_asking.TRY_SECONDS", 0.2)
    with Peer(lambda query: []) as peer:
        begun = time.monotonic()
        replies, _ = ask(peer.port, Way.DIRECT, Way.PLAIN, Way.SIGNED)
    assert replies == [Unanswered.SILENT] * 3
    assert time.monotonic() - begun < 2


def test_a_closed_port_refuses():
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    assert ask(port)[0] == [Unanswered.REFUSES]
    assert ask(port, Way.TCP)[0] == [Unanswered.REFUSES]


def test_no_more_questions_than_one_review_may_ask(monkeypatch):
    monkeypatch.setattr("pewter.gather.dns_asking.MAX_QUESTIONS", 3)
    with Peer(lambda query: [answered(query, GOOD)]) as peer:
        replies, seen = ask(peer.port, *[Way.AGAIN] * 5)
    assert [type(each) for each in replies[:3]] == [Reply] * 3
    assert replies[3:] == [Unanswered.TOO_MANY] * 2
    assert seen.not_asked == ("more than 3 questions to name servers",)
    assert MAX_QUESTIONS == 300


def test_no_crowd_of_questions_about_names_of_somebody_else():
    """A record that names a thousand targets below one domain does not make us burden its servers."""

    async def run(port):
        asker = Asker(Slots(8), os.urandom, own_domains=frozenset({"x.example"}))
        number = asker.add_server(Destination("192.0.2.53", 53, "127.0.0.1", port), "ns.x.example")
        asked = (
            f"n{count}.{domain}" for domain in ("victim.example", "other.example", "x.example") for count in range(70)
        )
        replies = {name: await asker.ask(number, name, "A", Way.DIRECT) for name in asked}
        return replies, asker.seen().not_asked

    with Peer(lambda query: [answered(query)]) as peer:
        replies, not_asked = asyncio.run(run(peer.port))
    answered_to = collections.Counter(
        name.partition(".")[2] for name, reply in replies.items() if reply is not Unanswered.TOO_MANY
    )
    assert answered_to == {"victim.example": 60, "other.example": 60, "x.example": 70}
    assert not_asked == (
        "more than 60 questions about names of victim.example", "more than 60 questions about names of other.example",
    )  # fmt: skip


def test_a_name_that_none_can_have():
    assert ask(9, name="a" * 70 + ".example")[0] == [Unanswered.NO_NAME]


@pytest.mark.parametrize(
    ("kind", "data", "shown"),
    [
        (257, b"\x00\x03a-bx", "0003612d6278"), (65, b"\x00", "00"), (65, b"\x00\x00\x01a\x00\x00\x03\x00\x02\x01\xbb", "000001610000030002" "01bb"),
    ],
)  # fmt: skip
def test_a_malformed_record_costs_no_other(kind, data, shown):
    """Of CAA and HTTPS the octets are kept."""
    good = answered(QUERY, GOOD)
    record = b"\xc0\x0c" + struct.pack("!HHIH", kind, 1, 60, len(data)) + data
    at = len(QUERY) - 11
    octets = good[:6] + b"\0\2" + good[8:at] + record + good[at:]
    reply = read_reply(octets, 7, "x.example", "A")
    assert {(each.type, each.data) for each in reply.answer} == {
        ("A", "192.0.2.7"),
        ("CAA" if kind == 257 else "HTTPS", shown),
    }


DIGEST = "2bb183af5f22588179a53b0a98631fad1a292118"


@pytest.mark.parametrize(
    ("kind", "written", "read"),
    [
        ("A", "192.0.2.7", "192.0.2.7"),
        ("AAAA", "2001:DB8:0:0:1:0:0:1", "2001:db8::1:0:0:1"),
        ("AAAA", "::ffff:192.0.2.7", "::ffff:192.0.2.7"),
        ("CNAME", "WWW.X.Example.", "www.x.example"),
        ("NS", ".", "."),
        ("DNAME", r'a\.b\032c\000\255\"\;.Example.', r'a\.b\032c\000\255\"\;.example'),
        ("SOA", "ns.x.example. host\\.master.x.example. 4294967295 1 2 3 4", "ns.x.example host\\.master.x.example 4294967295 1 2 3 4"),
        ("DS", f"60485 5 1 {DIGEST}", f"60485 5 1 {DIGEST}"),
        ("DNSKEY", "257 3 13 AwEAAQ==", "257 13 1808"),
        ("RRSIG", "AAAA 13 2 60 20261201000000 20261101000000 7 x.example. AwEA", "AAAA 1796083200 1793491200 7 x.example"),
        ("RRSIG", "TYPE65400 13 2 60 20261201000000 20261101000000 7 . AwEA", "TYPE65400 1796083200 1793491200 7 ."),
        ("CAA", '0 issue "a.example"', "00056973737565612e6578616d706c65"),
        ("HTTPS", "1 . alpn=h2", "00010000010003026832"),
        ("TXT", '"says nothing to us"', None),
    ],
)  # fmt: skip
def test_what_dnspython_writes_is_read(kind, written, read):
    """In each section, behind a name that the message compresses."""
    response = dns.message.make_response(dns.message.from_wire(QUERY))
    rrset = dns.rrset.from_text("WWW.x.example.", 60, "IN", kind, written)
    response.answer, response.authority, response.additional = [rrset], [rrset], [rrset]
    reply = read_reply(response.to_wire(), 7, "x.example", "A")
    records = (Record("www.x.example", kind, 60, read),) if read is not None else ()
    assert (reply.answer, reply.authority) == (records, records)
    assert reply.additional == (records if kind in {"A", "AAAA"} else ())
    assert (reply.has_edns, reply.left_out) == (True, 0)


def changed(octets, at, by):
    return octets[:at] + by + octets[at + len(by) :]


WHOLE = answered(QUERY, GOOD, ("x.example.", "A", "192.0.2.8"))
FIRST = 27
"""Where the first record of the answer starts: a pointer, type, class, TTL, length and four octets."""


@pytest.mark.parametrize(
    ("octets", "read"),
    [
        pytest.param(WHOLE, (["192.0.2.7", "192.0.2.8"], 0), id="whole"),
        pytest.param(changed(WHOLE, FIRST + 10, b"\xff"), ([], 3), id="a-length-beyond-the-end"),
        pytest.param(changed(WHOLE, FIRST + 2, b"\0\x1c"), (["192.0.2.8"], 1), id="an-AAAA-of-four-octets"),
        pytest.param(changed(WHOLE, FIRST + 4, b"\0\3"), (["192.0.2.8"], 0), id="of-another-class"),
        pytest.param(changed(WHOLE, FIRST + 6, b"\xff"), (["192.0.2.7", "192.0.2.8"], 0), id="a-negative-TTL"),
        pytest.param(changed(WHOLE, FIRST, b"\xc0\x1b"), ([], 3), id="a-pointer-to-itself"),
        pytest.param(changed(WHOLE, FIRST + 16, b"\xc0\x3c"), (["192.0.2.7"], 2), id="a-pointer-forward"),
        pytest.param(changed(WHOLE, FIRST, b"\x40\x0c"), ([], 3), id="a-label-of-an-unknown-kind"),
        pytest.param(WHOLE[:-20], (["192.0.2.7"], 2), id="cut-off"),
        pytest.param(changed(WHOLE, 2, b"\xa4"), None, id="another-opcode"),
        pytest.param(changed(WHOLE, 2, b"\x04"), None, id="no-response"),
        pytest.param(changed(WHOLE, 13, b"y"), None, id="another-question"),
        pytest.param(changed(WHOLE, 4, b"\0\0") [:12], None, id="no-question-and-no-error"),
    ],
)  # fmt: skip
def test_a_damaged_answer(octets, read):
    reply = read_reply(octets, 7, "x.example", "A")
    found = ([each.data for each in reply.answer], reply.left_out) if reply is not None else None
    assert found == read
    assert reply is None or all(0 <= each.ttl <= 60 for each in reply.answer)


def test_what_edns_adds():
    response = dns.message.make_response(dns.message.from_wire(QUERY))
    options = [
        dns.edns.EDEOption(22, "no reachable authority"),
        dns.edns.GenericOption(3, b"id"),
        dns.edns.EDEOption(6),
    ]
    response.use_edns(0, 0, 1232, options=options)
    response.set_rcode(dns.rcode.BADVERS)
    reply = read_reply(response.to_wire(), 7, "x.example", "A")
    assert (reply.rcode, reply.has_edns, reply.extended) == ("BADVERS", True, ("22 no reachable authority", "6"))


def test_names_of_pointers_alone_are_read_in_time():
    """Each points to the one before it: following them all for each record would take minutes."""
    chain = b"".join((0xC000 | max(12, 12 + 2 * (n - 1))).to_bytes(2, "big") for n in range(1, 6000))
    record = (0xC000 | 12 + len(chain)).to_bytes(2, "big") + struct.pack("!HHIH", 1, 1, 60, 4) + b"\0" * 4
    octets = struct.pack("!HHHHHH", 7, 0x8402, 0, 400, 0, 0) + b"\0\0" + chain + record * 400
    begun = time.monotonic()
    read_reply(octets, 7, "x.example", "A")
    assert time.monotonic() - begun < 2


def test_many_records_are_bounded():
    octets = answered(QUERY, ("x.example.", "A", *(f"10.0.{n // 256}.{n % 256}" for n in range(1000))))
    reply = read_reply(octets, 7, "x.example", "A")
    assert (len(reply.answer), reply.left_out) == (MAX_RECORDS, 1000 - MAX_RECORDS + 1)


@given(st.binary(max_size=200))
def test_no_octets_raise(tail):
    read_reply(QUERY[:2] + b"\x84\x00" + tail, 7, "x.example", "A")
    read_reply(QUERY[:2] + b"\x84\x00\0\1\0\2\0\1\0\1" + QUERY[12:27] + tail, 7, "x.example", "A")


def test_the_hosts_file_is_told(tmp_path, monkeypatch):
    file = tmp_path / "hosts"
    file.write_text("127.0.0.1 localhost\n192.0.2.9 www.x.example WWW.y.example # x.example\nfe80::1%lo z.example\n")
    monkeypatch.setattr(hosts_file, "HOSTS_FILE", file)
    assert hosts_file.in_hosts_file(["www.x.example", "x.example"]) == (("www.x.example", "192.0.2.9"),)
    monkeypatch.setattr(hosts_file, "HOSTS_FILE", tmp_path / "none")
    assert hosts_file.in_hosts_file(["www.x.example"]) == ()


@pytest.mark.parametrize(
    ("plan", "leads"),
    [
        ({}, ["www.x.example=192.0.2.9"]),
        ({"resolvers": ("192.0.2.53:53",)}, []),
        ({"names_are_listed": True}, []),
        ({"routes": ("www.x.example=192.0.2.7",)}, ["www.x.example=192.0.2.7"]),
    ],
    ids=["as-a-browser-here", "by-a-resolver", "of-a-list", "by-a-route"],
)
def test_typed_names_of_the_hosts_file_are_looked_at_there(tmp_path, monkeypatch, plan, leads):
    """A browser here goes there; localhost needs no such line, and an address with a zone is none."""
    file = tmp_path / "hosts"
    file.write_text("192.0.2.9 www.x.example\n192.0.2.8 localhost\nfe80::1%lo z.example\n192.0.2.6 other.example\n")
    monkeypatch.setattr(hosts_file, "HOSTS_FILE", file)
    targets = (Target("www.x.example"), Target("localhost"), Target("z.example"))
    network = Network.for_plan(Plan(targets, **{"resolvers": (), **plan}), Budget())
    assert [str(route) for route in network.routes.routes] == leads


@given(st.lists(st.binary(min_size=1, max_size=12), max_size=8))
def test_a_name_is_asked_for_as_another_reader_writes_it(labels):
    name = dns.name.Name([*labels, b""])
    query = build_query(name.to_text(), "A", 7, recursion=False, unchecked=False, edns=False, signed=False)
    assert query[12:-4] == name.to_wire()


@pytest.mark.parametrize("name", ["a..b", ".a", "a" * 64 + ".x", ".".join(["a" * 60] * 5), "a\\", "\\300.x", "\xfc.x"])
def test_what_can_be_no_name_is_not_asked_for(name):
    with pytest.raises(DecodeError):
        build_query(name, "A", 7, recursion=False, unchecked=False, edns=False, signed=False)


@pytest.mark.parametrize(
    ("text", "found"),
    [
        ("nameserver 192.0.2.1\nnameserver 2001:db8::1\n", ["192.0.2.1", "2001:db8::1"]),
        ("# nameserver 192.0.2.9\nsearch x.example\n  nameserver\t192.0.2.1  # the first\n", ["192.0.2.1"]),
        ("nameserver\nnameserver x.example\nnameservers 192.0.2.1\n", []),
        ("nameserver fe80::1%eth0\n", ["fe80::1%eth0"]),
        ("", []),
    ],
)
def test_resolvers_of_this_machine(text, found):
    assert list(resolvers_in(text)) == found


def test_no_look_loads_another_reader_of_dns():
    code = "import sys, pewter.cli.review, pewter.cli.survey; print('dns' in sys.modules)"
    assert subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True).stdout == "False\n"
