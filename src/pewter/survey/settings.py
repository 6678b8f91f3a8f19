"""How the sites of a survey are looked at: texts and numbers, which travel to workers."""

from collections.abc import Iterator

import msgspec

from pewter.evidence import EVERY_STEP, Plan, Reply, Step, Target
from pewter.expectations import Terms
from pewter.gather.board import Given
from pewter.gather.routes import read_resolver
from pewter.judge.rules import chosen_rules, steps_for
from pewter.names.addresses import why_not_public
from pewter.pki import Certificate, read_certificate
from pewter.plan.root_stores import own_stores

BRIEF_STEPS = (Step.SIBLINGS, Step.WAYS_IN, Step.CERTIFICATES, Step.VERSIONS)
"""Four hellos, the ways in and the certificates: no search of suites and groups, no questions to name servers."""

BRIEF_SECONDS, FULL_SECONDS = 20.0, 60.0
BRIEF_STEP_SECONDS, STEP_SECONDS = 4.0, 8.0
FIRST_SECONDS = 2.5
"""A place of which nothing is heard by then is left alone: a SYN that was lost was sent again at 1 s (RFC 6298
section 2) and had time to be answered; the next would go out at 3 s."""

CONNECTIONS_TO_AN_ADDRESS, CONNECTIONS_TO_A_NETWORK = 8, 32


class Settings(msgspec.Struct, frozen=True):
    """The same for every site."""

    is_brief: bool = False
    resolvers: tuple[str, ...] = ()
    routes: tuple[str, ...] = ()
    only: tuple[str, ...] = ()
    skip: tuple[str, ...] = ()
    gentle: bool = False
    revocation: bool = False
    seconds: float = 0.0
    """For one site; 0 for the usual."""

    first_seconds: float = FIRST_SECONDS
    """For the first octets of an answer."""

    trust: tuple[bytes, ...] = ()
    """DER of anchors that the reviewer gave."""

    trusts_given_only: bool = False
    as_in_file: bool = False
    """Names and addresses of the list may be anywhere, as if they had been typed."""

    workers: int = 1
    """That ask at the same time: an address that none of them has to itself is shared among them."""

    sites_under_way: int = 50
    """In one worker."""

    sockets: int = 400
    """Open at a time in one worker."""

    def differs(self, other: "Settings") -> Iterator[str]:
        """Options by which these settings ask or judge otherwise than others, as they are typed."""
        for name, option in _OPTIONS.items():
            own, others = getattr(self, name), getattr(other, name)
            if own == others:
                continue
            match own:
                case bool():
                    yield option if own else f"no {option}"
                case float():
                    yield f"{option} {own:g}" if own else f"no {option}"
                case _ if name == "trust":
                    yield f"other certificates for {option}"
                case _:
                    yield " ".join(f"{option} {value}" for value in own) or f"no {option}"

    @property
    def steps(self) -> tuple[Step, ...]:
        wanted = steps_for(chosen_rules(self.only, self.skip))
        allowed = BRIEF_STEPS if self.is_brief else EVERY_STEP
        return tuple(step for step in allowed if step in wanted)

    @property
    def whole_seconds(self) -> float:
        return self.seconds or (BRIEF_SECONDS if self.is_brief else FULL_SECONDS)

    @property
    def of_address(self) -> int:
        return 1 if self.gentle else CONNECTIONS_TO_AN_ADDRESS

    @property
    def of_unowned_address(self) -> int:
        """To an address that other workers may ask as well."""
        return max(1, self.of_address // self.workers)

    @property
    def of_network(self) -> int:
        return max(1, (4 if self.gentle else CONNECTIONS_TO_A_NETWORK) // self.workers)

    def plan(self, targets: tuple[Target, ...]) -> Plan:
        """For one site."""
        skip = (*self.skip, *(("dns",) if self.is_brief and "dns" not in self.skip else ()))
        return Plan(
            targets=targets,
            routes=self.routes,
            resolvers=self.resolvers,
            names_are_listed=not self.as_in_file and not any(map(_is_private, self.resolvers)),
            only=self.only,
            skip=skip,
            steps=self.steps,
            revocation=self.revocation,
            connections_per_address=self.of_address,
            whole_seconds=self.whole_seconds,
            step_seconds=min(BRIEF_STEP_SECONDS if self.is_brief else STEP_SECONDS, self.whole_seconds),
        )

    def given(self) -> Given:
        """This machine's root stores, and what the reviewer gave."""
        read = (read_certificate(der) for der in self.trust)
        return Given(
            stores=own_stores(),
            trust=tuple(each for each in read if isinstance(each, Certificate)),
            trusts_given_only=self.trusts_given_only,
        )

    @property
    def terms(self) -> Terms:
        return Terms()


_OPTIONS = {
    "is_brief": "--brief",
    "resolvers": "--resolver",
    "routes": "--route",
    "only": "--only",
    "skip": "--skip",
    "gentle": "--gentle",
    "revocation": "--revocation",
    "seconds": "--timeout",
    "trust": "--trust",
    "trusts_given_only": "--trust-only",
    "as_in_file": "--as-in-file",
}
"""By which one run of a survey is one: the rest is of the machine."""


def _is_private(resolver: str) -> bool:
    """A resolver off the public internet was given: then the names may be there as well."""
    address, _ = read_resolver(resolver)
    return why_not_public(address) is not None


class Known(msgspec.Struct, frozen=True):
    """An answer of the name service that need not be asked for again."""

    name: str
    kind: str
    reply: Reply


class Order(msgspec.Struct, frozen=True):
    """One site to look at."""

    key: str
    targets: str
    """``x.example www.x.example:8443``."""

    owned: tuple[str, ...] = ()
    """Addresses that no other worker asks."""

    known: tuple[Known, ...] = ()
