"""Which fronts are in their balancer's address, and when that changes.

A dead front stays for its failover time; a returned one joins after the same time. A floating address is held by one
front at a time.
"""

from collections.abc import Iterator

import numpy as np
from msgspec import Struct

from northgate.engine.base import NEVER, Bools, Floats, Ints, total_by, where_true
from northgate.engine.network import Network
from northgate.engine.processes.holdings import Holdings
from northgate.engine.processes.process import Entry
from northgate.engine.processes.targets import Targets
from northgate.engine.processes.world import World


class Addresses:
    """Per front: whether its address leads to it, and the second at which that changes."""

    def __init__(self, network: Network, front_dead: Bools, new: Bools | bool = False) -> None:
        self._failover_s: Floats = network.fronts.failover_s
        self.floating = tuple(
            Floating(where_true(network.fronts.balancer == index), returns=balancer.returns)
            for index, balancer in enumerate(network.plan.balancers)
            if balancer.address_kind == "floating"
        )
        self._floats = np.zeros(len(front_dead), dtype=bool)
        self.present, self._dead = ~(front_dead | new), front_dead
        self._change_s = np.full(len(front_dead), NEVER)
        for one in self.floating:
            self._floats[one.fronts] = True
            self.present[one.fronts] = False
            self.present[one.wanted(self.present, front_dead, default=one.fronts[0])] = True

    def meet(self, now: float, front_dead: Bools) -> None:
        """From now on these fronts are dead and the others living."""
        self._dead = front_dead
        wants_change = (self.present == front_dead) & ~self._floats
        for one in self.floating:
            holder = one.holder(self.present)
            wants_change[holder] = one.wanted(self.present, front_dead, default=holder) != holder
        starts = wants_change & (self._change_s == NEVER)
        self._change_s = np.where(starts, now + self._failover_s, np.where(wants_change, self._change_s, NEVER))

    def stands(self, now: float) -> Iterator[Floats]:
        """When fronts leave or join, in seconds from now."""
        yield self._change_s - now

    def floats(self, front: int) -> bool:
        """Whether a front's address is held by one front at a time."""
        return bool(self._floats[front])

    def next_change_s(self) -> float:
        """The second at which the next front leaves or joins, inf when none will."""
        return float(self._change_s.min()) if len(self._change_s) else NEVER

    def take_changes(self, now: float) -> Ints:
        """Lets the fronts whose time has come leave or join; returns them."""
        changed = where_true(self._change_s <= now)
        for one in self.floating:
            holder = one.holder(self.present)
            if holder in changed:
                changed = np.append(changed, one.wanted(self.present, self._dead, default=holder))
        self.present = self.present.copy()
        self.present[changed] = ~self.present[changed]
        self._change_s[changed] = NEVER
        return changed


class Floating(Struct, frozen=True):
    """An address that only one of its fronts holds: the first living one, in this order.

    The front that holds it keeps it until its failover time after it is lost; then the first that lives then takes it
    over. It goes back in the same way where it `returns`.
    """

    fronts: Ints
    returns: bool

    def holder(self, present: Bools) -> int:
        """The front that holds the address."""
        return int(self.fronts[present[self.fronts]][0])

    def wanted(self, present: Bools, front_dead: Bools, default: int) -> int:
        """The front that is to hold the address; `default` where none lives."""
        living = self.fronts[~front_dead[self.fronts]]
        held = living[present[living]]
        stays = held if not self.returns and len(held) else living
        return int(stays[0]) if len(stays) else int(default)


class Fronts:
    """The fronts in their addresses; those that withdraw without usable targets leave like dead ones, and those that
    are `new` to their balancer join as they do once they have one."""

    def __init__(self, world: World, holdings: Holdings, new: Bools) -> None:
        self.network, self.world, self.holdings, self.new = world.network, world, holdings, new
        self.addresses = Addresses(self.network, world.truth.front_dead, self.new)
        self._empty = self.new

    @property
    def present(self) -> Bools:
        """Per front: whether it is in its address."""
        return self.addresses.present

    def meet(self, now: float) -> None:
        """Fronts may be dead now, or living."""
        self.addresses.meet(now, self.world.truth.front_dead | self._empty)

    def now_empty(self, empty: Bools, now: float) -> bool:
        """These withdraw for want of targets; returns whether that are others than before."""
        if (empty == self._empty).all():
            return False
        self._empty = empty
        self.meet(now)
        return True

    def next_s(self, now: float) -> float:  # noqa: ARG002
        """When the next front leaves or joins."""
        return self.addresses.next_change_s()

    def take(self, now: float) -> Iterator[Entry]:
        """Lets fronts leave or join whose time has come. Connections through dead ones that leave are reset, and all
        through one that gives a floating address away: the next knows nothing of them."""
        changed = self.addresses.take_changes(now).tolist()
        if changed and self.addresses.floating:
            self.meet(now)
        for front in changed:
            joins, about = bool(self.present[front]), (self.network.balancer_of(front), self.network.front_name(front))
            floats = self.addresses.floats(front)
            yield Entry("front", about, {"joins": joins, "floats": floats})
            if not joins:
                gone = self.network.pairs.front == front
                self.holdings.free_connections(gone & (self.world.truth.front_dead[front] | floats))


class Withdrawals:
    """Fronts that leave their address without usable targets begin to, or turn back."""

    def __init__(self, fronts: Fronts, targets: Targets) -> None:
        self.network, self.fronts, self.targets = fronts.network, fronts, targets
        withdraws = self.network.balancers.withdraws[self.network.fronts.balancer]
        has_groups = np.isin(np.arange(len(self.network.fronts.zone)), self.network.cells.front)
        # The fronts that leave when they have no target; and those that have not had one yet.
        self._would, self._new = withdraws & has_groups, fronts.new

    def next_s(self, now: float) -> float:  # noqa: ARG002
        """Follows verdicts and drains only."""
        return NEVER

    def take(self, now: float) -> Iterator[Entry]:
        """Looks whether fronts have usable targets."""
        if (self._would | self._new).any() and self.fronts.now_empty(self._empty_fronts(), now):
            yield from self.fronts.take(now)

    def _empty_fronts(self) -> Bools:
        network, count = self.network, len(self.network.fronts.zone)
        usable = self.targets.in_use & (network.pairs.weight > 0)
        any_left = total_by(network.pairs.front, usable, count) > 0
        self._new = self._new & ~any_left
        return np.asarray((self._would | self._new) & ~any_left)
