"""How long a belief may be wrong, by the four numbers of a probe."""

from msgspec import Struct

from northgate.plan.models.groups import Probe


class Sum(Struct, frozen=True):
    """A bound, and its parts in seconds: until the first probe, `beats` times `beat_s`, until the answer."""

    first_s: float
    beats: int
    beat_s: float
    answer_s: float

    @property
    def total_s(self) -> float:
        """The bound itself."""
        return self.first_s + (self.beats * self.beat_s + self.answer_s)


class Bounds(Struct, frozen=True):
    """The shortest and longest possible blind time."""

    earliest: Sum
    latest: Sum

    @property
    def earliest_s(self) -> float:
        """The shortest, in seconds."""
        return self.earliest.total_s

    @property
    def latest_s(self) -> float:
        """The longest, in seconds."""
        return self.latest.total_s


def down_bounds(probe: Probe, *, at_once: bool, answer_s: float = 0.0) -> Bounds:
    """How long a target that went down may stay believed in use.

    With n failures, interval I and time-out T: `[(n-1) I, n I)` when the failure is known at once, with T added when
    it takes the time-out. When the interval starts at the result, the beat itself is I + T while failing, and the pass
    before it was known `answer_s` after it was sent.
    """
    n, interval = probe.unhealthy_after, probe.interval_s
    delay = 0.0 if at_once else probe.timeout_s
    beat = interval if probe.next_after == "send" else interval + delay
    first = interval if probe.next_after == "send" else interval + answer_s
    return Bounds(Sum(0.0, n - 1, beat, delay), Sum(first, n - 1, beat, delay))


def up_bounds(probe: Probe, *, answer_s: float, at_once: bool) -> Bounds:
    """How long a target that came back may stay believed out.

    With m passes: `[(m-1) I, m I)` plus the time of the answer; when the interval starts at the result, the beat is
    I + answer, and a failure sent just before the return delays the first pass by its time-out.
    """
    m, interval = probe.healthy_after, probe.interval_s
    beat = interval if probe.next_after == "send" else interval + answer_s
    pending = 0.0 if at_once or probe.next_after == "send" else probe.timeout_s
    return Bounds(Sum(0.0, m - 1, beat, answer_s), Sum(interval + pending, m - 1, beat, answer_s))
