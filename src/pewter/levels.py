"""How bad a gap is."""

import enum


class Level(enum.Enum):
    """Worst first."""

    BREAKS = "breaks"
    """Visitors are stopped or warned."""

    EXPOSES = "exposes"
    """Traffic or cookies can be read or changed."""

    WEAKENS = "weakens"
    """A defence is missing."""

    NOTE = "note"

    @property
    def rank(self) -> int:
        """0 for the worst."""
        return list(Level).index(self)
