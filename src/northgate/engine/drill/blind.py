"""Beliefs that are wrong for a while."""

from dataclasses import dataclass

from northgate.engine.formulas import Bounds


@dataclass(frozen=True)
class BlindRow:
    """A belief that was wrong for a while: from when the truth changed to when the belief followed (None: never).

    `bounds` is None where no probe asks about what was lost, so that nobody can notice (`unseen`).
    """

    pair: int
    change: str
    true_at_s: float
    believed_at_s: float | None
    ended_at_s: float
    bounds: Bounds | None

    @property
    def unseen(self) -> bool:
        """Whether no probe asks about what was lost: it asks another port, or another page."""
        return self.bounds is None

    @property
    def blind_s(self) -> float:
        """How long the belief was wrong, in seconds."""
        return self.ended_at_s - self.true_at_s
