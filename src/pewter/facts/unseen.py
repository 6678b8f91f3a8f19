"""What could not be seen, and where."""

import msgspec

from pewter.places import Place


class UnseenAt(msgspec.Struct, frozen=True):
    """Nothing may be concluded about this place."""

    where: Place
    reason: str
