"""Chains: issuers that were not sent, names that share the certificate, and what its CAs say of it."""

import datetime
import functools
import re
from collections.abc import Callable, Sequence

from pewter.evidence import FetchedIssuer, Name, StatusAnswer, StatusMethod, Step, Unseen, Way
from pewter.names.answers import ancestors
from pewter.pki import Certificate, MalformedCertificate, Store, build_paths, read_certificate

from ..scene import Scene
from ..together import together
from .issuers import missing_issuers
from .revocation import Question, ask, questions_for

_HOST_NAME = re.compile(r"(?=.{1,253}\Z)(?:[a-z0-9](?:[a-z0-9-]{0,61}[a-z0-9])?\.)+[a-z0-9-]{2,63}")


def failing(scene: Scene, leaf: str) -> Callable[[str], None]:
    """What tells of a fault in looking for the issuers of a leaf."""
    return lambda reason: scene.board.fetched.append(FetchedIssuer("", leaf, reason))


async def look_into(scene: Scene, chain: Sequence[str]) -> None:
    """Ask for issuers that were not sent, as some browsers do; then look up its names and its revocation."""
    octets = [scene.board.certificates[sha256] for sha256 in dict.fromkeys(chain)]
    read = await scene.network.threads.off_the_loop(sum(map(len, octets)) + 256 * len(octets), _read_all, octets)
    sent = [each for each in read if isinstance(each, Certificate)]
    await fetch_issuers(scene, sent)
    if not sent or sent[0].sha256 != chain[0]:
        return
    for name in sent[0].extensions.dns_names if scene.wants(Step.COVERED_NAMES) else ():
        _look_up_covered(scene, name.lower())
    if scene.plan.revocation and scene.wants(Step.REVOCATION):
        _ask_for_revocation(scene, sent[0], sent)


async def fetch_issuers(scene: Scene, sent: Sequence[Certificate]) -> None:
    """Upwards from the last certificate whose issuer is not at hand."""
    if sent:
        async for fetched, certificates in missing_issuers(scene, sent, _stores(scene)):
            scene.board.certificates.update(certificates)
            scene.board.fetched.append(fetched)


def _stores(scene: Scene) -> tuple[Store, ...]:
    given = scene.board.given
    anchors = Store("given", given.trust)
    return (anchors,) if given.trusts_given_only else (*given.stores, anchors)


def _look_up_covered(scene: Scene, name: str) -> None:
    """A name that shares the certificate: does it resolve?"""
    board = scene.board
    if name in board.names or name in board.covered or len(board.covered) >= scene.budget.covered_names:
        return
    if not _HOST_NAME.fullmatch(name) or scene.network.routes.for_name(name, 443):
        return
    board.covered[name] = Name(name, False)

    async def look_up() -> None:
        board.covered[name] = Name(name, False, await scene.network.names.look_up(name))
        if scene.wants(Step.DNS):
            # A CA looks at the CAA set of every name of the certificate that it renews.
            asker = scene.network.names.asker
            await together(*(asker.ask(0, above, "CAA", Way.RESOLVED) for above in ancestors(name)))

    scene.start(look_up(), name)


def _ask_for_revocation(scene: Scene, leaf: Certificate, sent: Sequence[Certificate]) -> None:
    """Along the best path from what is at hand."""
    board = scene.board
    answers = (one.answer for one in board.fetched if isinstance(one.answer, tuple))
    fetched = (read_certificate(board.certificates[each]) for answer in answers for each in answer)
    pool = [*sent, *(each for each in fetched if isinstance(each, Certificate))]
    now = datetime.datetime.now(datetime.UTC)
    for question in questions_for(build_paths(leaf, pool, _stores(scene), now)[0].certificates):
        method, url, _, of = question
        if scene.is_first(("status", url, of if method is StatusMethod.OCSP else "")):
            failed = functools.partial(_failed, scene, question)
            scene.start(_ask(scene, question), f"{method.value} at {url}", failed)


async def _ask(scene: Scene, question: Question) -> None:
    scene.board.statuses[question[1], question[3]] = await ask(question, scene.context)


def _failed(scene: Scene, question: Question, reason: str) -> None:
    method, url, _, of = question
    scene.board.statuses[url, of] = StatusAnswer(method, url, of, Unseen(reason))


def _read_all(chain: Sequence[bytes]) -> list[Certificate | MalformedCertificate]:
    return [read_certificate(each) for each in chain]
