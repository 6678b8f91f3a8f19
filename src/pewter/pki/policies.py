"""Certificate policies along a path (RFC 5280 section 6.1), for a client that accepts any policy.

Such a client rejects a path only where a CA demands that every certificate below it carry a policy
(requireExplicitPolicy).  It is then enough to know whether any policy is left at the end, so in place
of RFC 5280's tree, whose size a hostile chain can double at each step, only its last row is kept (the
observation of RFC 9618): the policies that the next certificate may assert, in its issuer's words.
"""

from collections.abc import Sequence
from dataclasses import dataclass, field

from .certificates import Certificate
from .identifiers import ANY_POLICY


@dataclass
class _State:
    """The state variables of section 6.1.2; the counts are of certificates until a demand takes effect."""

    explicit: int
    mapping: int
    any_policy: int
    accepts_any: bool = True
    accepted: set[str] = field(default_factory=set)

    @property
    def has_policy(self) -> bool:
        return self.accepts_any or bool(self.accepted)


def violated_policy(certificates: Sequence[Certificate]) -> tuple[Certificate, str] | None:
    """The certificate at which policies reject the path, and why; ``certificates`` begins with the anchor."""
    below = certificates[1:]
    count = len(below)
    state = _State(explicit=count + 1, mapping=count + 1, any_policy=count + 1)
    for position, certificate in enumerate(below, start=1):
        is_leaf = position == count
        any_counts = state.any_policy > 0 or (certificate.is_self_issued and not is_leaf)
        _take_policies(state, certificate, any_counts=any_counts)
        if is_leaf:
            state.explicit = max(state.explicit - 1, 0)
            if certificate.extensions.policy.require_explicit_policy == 0:
                state.explicit = 0
        if state.explicit == 0 and not state.has_policy:
            return certificate, "an issuer demands a policy (requireExplicitPolicy) that is not carried down to it"
        if is_leaf:
            break
        if any(ANY_POLICY in pair for pair in certificate.extensions.policy.mappings):
            return certificate, "policyMappings maps anyPolicy"
        _map_policies(state, certificate)
        _count_down(state, certificate)
    return None


def _take_policies(state: _State, certificate: Certificate, *, any_counts: bool) -> None:
    """Section 6.1.3 (d) and (e)."""
    asserted = certificate.extensions.policy.policies
    if asserted is None:
        state.accepted, state.accepts_any = set(), False
        return
    named = set(asserted) - {ANY_POLICY}
    asserts_any = ANY_POLICY in asserted and any_counts
    kept = named if state.accepts_any else state.accepted & named
    state.accepted = state.accepted | kept if asserts_any else kept
    state.accepts_any = state.accepts_any and asserts_any


def _map_policies(state: _State, certificate: Certificate) -> None:
    """Section 6.1.4 (b)."""
    mappings = certificate.extensions.policy.mappings
    mapped = {issuer for issuer, _ in mappings}
    if state.mapping == 0:
        state.accepted -= mapped
        return
    reached = {subject for issuer, subject in mappings if issuer in state.accepted or state.accepts_any}
    state.accepted = (state.accepted - mapped) | reached


def _count_down(state: _State, certificate: Certificate) -> None:
    """Section 6.1.4 (h) to (j)."""
    if not certificate.is_self_issued:
        state.explicit = max(state.explicit - 1, 0)
        state.mapping = max(state.mapping - 1, 0)
        state.any_policy = max(state.any_policy - 1, 0)
    policy = certificate.extensions.policy
    if policy.require_explicit_policy is not None:
        state.explicit = min(state.explicit, policy.require_explicit_policy)
    if policy.inhibit_policy_mapping is not None:
        state.mapping = min(state.mapping, policy.inhibit_policy_mapping)
    if policy.inhibit_any_policy is not None:
        state.any_policy = min(state.any_policy, policy.inhibit_any_policy)
