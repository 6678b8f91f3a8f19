"""What could not be seen, and where."""

from dataclasses import dataclass

from pewter.places import Place


@dataclass(frozen=True)
class UnseenAt:
    """Nothing may be concluded about this place."""

    where: Place
    reason: str
