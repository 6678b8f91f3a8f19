"""What was proven on the real servers: written by ``make mends``."""

import functools

import msgspec

from pewter.data import toml_beside
from pewter.phrases import counted

from .kinds import Kind, kind_file


class Proofs(msgspec.Struct, frozen=True):
    """Of one kind: its version, and how many set-ups of each rule were proven."""

    version: str
    set_ups: dict[str, int]


@functools.cache
def _proofs() -> dict[str, Proofs]:
    return msgspec.convert(toml_beside(__file__, "proofs.toml"), dict[str, Proofs])


def proof_of(rule: str, kind: Kind) -> str:
    """``proven on nginx 1.22.1 (3 set-ups)``, or ``not tried here``."""
    proofs = _proofs().get(kind.value)
    lines_of = kind_file(kind).same.get(rule, rule)  # the same lines are proven by either rule
    count = proofs.set_ups.get(rule, 0) or proofs.set_ups.get(lines_of, 0) if proofs is not None else 0
    if proofs is None or not count:
        return "not tried here"
    return f"proven on {proofs.version} ({counted(count, 'set-up')})"
