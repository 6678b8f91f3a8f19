"""A name service that answers only so many questions a second."""

import datetime
import queue
import socket
import threading
import time

import pytest

from pewter.evidence import Question, Unanswered, Way
from pewter.lab.crowd import Crowd, Kind
from pewter.lab.world import WorldThread
from pewter.plan.request import LookRequest
from pewter.survey.resolving import MOST_AT_ONCE, Window
from pewter.tasks.surroundings import Alone
from pewter.tasks.surveying import SurveyRequest, survey

SITES = 60
NOT_THERE = {Kind.SILENT, Kind.DEAD, Kind.NO_NAME}


class Narrow:
    """Before a name server: its answers come evenly, and no more of them a second than this; others wait their turn."""

    def __init__(self, port, a_second):
        self.front, self.back = (socket.socket(socket.AF_INET, socket.SOCK_DGRAM) for _ in range(2))
        self.front.bind(("127.0.0.1", 0))
        self.back.settimeout(2)
        self.resolver = f"127.0.0.1:{self.front.getsockname()[1]}"
        self.port, self.pause, self.asked = port, 1 / a_second, 0
        self.waiting = queue.Queue(5 * a_second)

    def __enter__(self):
        for work in (self._take, self._give):
            threading.Thread(target=work, daemon=True).start()
        return self

    def __exit__(self, *_):
        self.front.close()
        self.back.close()

    def _take(self):
        try:
            while True:
                question = self.front.recvfrom(4096)
                self.asked += 1
                if not self.waiting.full():
                    self.waiting.put(question)
        except OSError:
            self.waiting.put((b"", None))

    def _give(self):
        due = time.monotonic()
        try:
            while (question := self.waiting.get())[1] is not None:
                due = max(due + self.pause, time.monotonic())
                time.sleep(max(0.0, due - time.monotonic()))
                self.back.sendto(question[0], ("127.0.0.1", self.port))
                self.front.sendto(self.back.recv(4096), question[1])
        except OSError:
            pass


@pytest.mark.parametrize("a_second", [20, 50, 200])
def test_nothing_is_lost_by_asking_too_much_at_once(a_second, tmp_path):
    crowd = Crowd(SITES, datetime.datetime.now(datetime.UTC))
    (tmp_path / "root.pem").write_bytes(crowd.root.pem)
    (tmp_path / "sites").write_text("\n".join(crowd.kinds))
    with WorldThread(crowd), Narrow(int(crowd.resolver.rpartition(":")[2]), a_second) as narrow:
        look = LookRequest(resolvers=(narrow.resolver,), routes=crowd.routes, trust=(tmp_path / "root.pem",))
        asked = SurveyRequest(tmp_path / "sites", tmp_path / "s", brief=True, look=look, workers=2)
        found = survey(asked, Alone()).found
    lost = [
        (row["site"], row["error"]) for row in found.rows if row["reached"] is (crowd.kinds[row["site"]] in NOT_THERE)
    ]
    assert lost == []
    assert narrow.asked / SITES <= 6  # a busy machine may ask one or two once more; 4.5 where it has nothing else to do


def question(milliseconds, why=None):
    return Question(0, "x.example", "A", Way.RESOLVED, milliseconds, None if why else 0, why)


def test_the_window_opens_while_answers_are_fast_and_closes_when_they_wait():
    window = Window()
    for _ in range(100):
        assert not window.ended([question(20)] * 4, 0.0)
    assert window.size == MOST_AT_ONCE
    # A name that nobody answers says nothing of the service.
    assert not window.ended([question(4000, Unanswered.SILENT)], 1.0)
    assert window.size == MOST_AT_ONCE
    for _ in range(10):
        window.ended([question(3000)] * 4, 2.0)
    assert window.size == MOST_AT_ONCE / 2  # once a second at most
    assert window.ended([question(4000, Unanswered.SILENT)], 2.5)
    window.ended([question(3000)], 3.1)
    assert window.size == MOST_AT_ONCE / 4
    for second in range(4, 20):
        window.ended([question(3000)], second)
    assert window.size == 1
    for _ in range(60):
        window.ended([question(20)], 20)
    assert 1 < window.size < 12  # one more each time around
