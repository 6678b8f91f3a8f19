"""Questions to hostile name servers: a stated outcome, in time."""

import asyncio
import os
import socket
import struct
import threading
import time

import dns.flags
import dns.message
import dns.rrset
import pytest
from hypothesis import given
from hypothesis import strategies as st

from pewter.evidence import Reply, Unanswered, Way
from pewter.gather.dns_asking import MAX_QUESTIONS, Asker
from pewter.gather.dns_messages import MAX_RECORDS, build_query, read_reply
from pewter.gather.routes import Destination
from pewter.gather.slots import Slots
from pewter.gather.steps import dns as dns_step

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


def test_a_name_that_none_can_have():
    assert ask(9, name="a" * 70 + ".example")[0] == [Unanswered.NO_NAME]


@pytest.mark.parametrize(
    ("kind", "data", "shown"),
    [
        (257, b"\x00\x03a-bx", "0003612d6278"), (65, b"\x00", "00"), (65, b"\x00\x00\x01a\x00\x00\x03\x00\x02\x01\xbb", "000001610000030002" "01bb"),
    ],
)  # fmt: skip
def test_a_malformed_record_costs_no_other(kind, data, shown):
    """Of CAA and HTTPS the octets are kept; dnspython would lose the whole message."""
    good = answered(QUERY, GOOD)
    record = b"\xc0\x0c" + struct.pack("!HHIH", kind, 1, 60, len(data)) + data
    at = len(QUERY) - 11
    octets = good[:6] + b"\0\2" + good[8:at] + record + good[at:]
    reply = read_reply(octets, 7, "x.example", "A")
    assert {(each.type, each.data) for each in reply.answer} == {
        ("A", "192.0.2.7"),
        ("CAA" if kind == 257 else "HTTPS", shown),
    }


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
    file.write_text("127.0.0.1 localhost\n192.0.2.9 www.x.example WWW.y.example # x.example\n")
    monkeypatch.setattr(dns_step, "HOSTS_FILE", file)
    assert dns_step.in_hosts_file(["www.x.example", "x.example"]) == (("www.x.example", "192.0.2.9"),)
    monkeypatch.setattr(dns_step, "HOSTS_FILE", tmp_path / "none")
    assert dns_step.in_hosts_file(["www.x.example"]) == ()
