"""At a target: its answer, or what stands behind it."""

from collections.abc import Callable, Sequence

import numpy as np
from msgspec.structs import replace

from northgate.engine.formulas import too_late
from northgate.engine.matching import Request, is_address, page_status, plain_host
from northgate.engine.network import Leaf
from northgate.engine.trace.answer import Hop
from northgate.engine.trace.format import per_cent
from northgate.engine.trace.question import Sender
from northgate.engine.trace.stages.entrance import passage
from northgate.engine.trace.stages.target import TargetStage
from northgate.engine.trace.stages.way import Connect, Context, End, Here, Hops, Way, no_hops
from northgate.engine.truth import REFUSES, SILENT


class ServiceStage:
    """What becomes of a request at a target."""

    def __init__(self, context: Context, targets: TargetStage) -> None:
        self.context, self.flow, self.network, self.plan = context, context.flow, context.network, context.plan
        self.targets = targets

    def ways(self, pair: int, request: Request, here: Here) -> list[Way[None]]:
        """The ends of a request at a target of the plan."""
        network, layer = self.network, self._layer(pair)
        name = network.machines.names[int(network.pairs.machine[pair])]
        found, wait_s = self.targets.checks_to(pair, here.sender), self._hang_s(pair, here.sender)
        port = int(network.members.port[network.pairs.member[pair]])
        came = passage(self.context, found, wait_s, f"port {port}", layer=layer, target=name)
        if came.end:
            return [Way(1.0, end=came.end, takes_s=came.takes_s, hops=came.hops)]
        met = int(self.flow.state.encounter.met[pair])
        ways = [self._silent(pair, wait_s)] if met == SILENT else [self._refuses(pair)] if met == REFUSES else None
        ways = ways or self._answers(pair, request, here)
        return [replace(way, hops=_after(came.hops, way.hops)) for way in ways]

    # What stands behind a target

    def leads_on(self, pair: int) -> bool:
        """Whether a target stands for a balancer or a name."""
        return bool(self.network.members.leads_on[self.network.pairs.member[pair]])

    def behind(self, pair: int, here: Here) -> Here:
        """Who asks behind a target: at layer 7 the balancer, with its own patience for a connect and for an answer;
        nothing is kept there."""
        sender = replace(here.sender, connect_timeout_s=self._hang_s(pair, here.sender), over_share=0.0)
        due_s = min(here.due_s, here.spent_s + float(self.network.pairs.response_timeout_s[pair]))
        front = int(self.network.pairs.front[pair])
        return replace(here, sender=sender, due_s=due_s, depth=here.depth + 1, source=front)

    def inner_request(self, pair: int, request: Request) -> Request:
        """What is asked behind a target."""
        group = self.plan.target_groups[int(self.network.pairs.group[pair])]
        scheme = group.protocol if self._layer(pair) == 7 else request.scheme
        return replace(request, scheme=scheme, port=int(self.network.members.port[self.network.pairs.member[pair]]))

    def onward(self, pair: int) -> Leaf | Request:
        """Where a target leads on: to a balancer, or by a name that is asked for."""
        network = self.network
        name = network.machines.names[int(network.pairs.machine[pair])]
        balancers = [one.name for one in self.plan.balancers]
        if name in balancers:
            return Leaf((), balancers.index(name), -1)
        if is_address(name):
            return network.names.leaf_of_address(name)
        host = plain_host(name)
        return Request("", host, 0, "/") if network.names.index(host) is not None else Leaf((), -1, -1)

    def to_balancer(self, pair: int) -> bool:
        """Whether a layer 7 balancer asks there: to it a failed connect behind a target is a failure like others."""
        return self._layer(pair) == 7

    def passed_back(self, pair: int, end: End) -> End:
        """How an end behind a target looks before it: to a layer 7 balancer a failed connect is a failure like others,
        a layer 4 one passes it back."""
        return replace(end, connect="taken") if self._layer(pair) == 7 else end

    # The ends

    def _layer(self, pair: int) -> int:
        return int(self.network.fronts.layer[self.network.pairs.front[pair]])

    def _hang_s(self, pair: int, sender: Sender) -> float:
        """How long a request hangs on a silent target."""
        own = float(self.network.groups.connect_timeout_s[self.network.pairs.group[pair]])
        return own if self._layer(pair) == 7 else sender.connect_timeout_s

    def _silent(self, pair: int, wait_s: float) -> Way[None]:
        history = self.context.history
        reason = f"{self._name(pair)} is silent{history.not_noticed(pair)}"
        end = self._failed(pair, 504, "timed_out", reason, "timed_out", "quiet")
        words = f" · gave up after {wait_s:g} s"
        hops = self._hops(pair, lambda: history.why_down(pair) + words, "silent", wait_s, ok=False)
        return Way(1.0, end=end, takes_s=wait_s, hops=hops)

    def _refuses(self, pair: int) -> Way[None]:
        history, member = self.context.history, int(self.network.pairs.member[pair])
        reason = f"{self._name(pair)} refuses{history.not_noticed(pair)}"
        end = self._failed(pair, 502, "reset", reason, "refused", "away")

        def why() -> str:
            if self.network.members.service[member] >= 0:
                return history.why_down(pair)
            return f"nothing on {self._name(pair)} serves port {self.network.members.port[member]}"

        return Way(1.0, end=end, hops=self._hops(pair, why, "refuses", 0.0, ok=False))

    def _answers(self, pair: int, request: Request, here: Here) -> list[Way[None]]:
        """Ends of requests at a target that takes connects: an answer in time or too late, or a full queue."""
        queue, machine = self.flow.queue, int(self.network.pairs.machine[pair])
        excess = float(queue.excess[machine])
        ways = [replace(self._answer(pair, request, here), share=1 - excess)]
        if excess > 0:
            load = per_cent(float(queue.utilisation[machine]))
            end = self._failed(pair, 503, "reset", f"{self._name(pair)} is overloaded", "overloaded", "taken")
            because = f"its queue is full: offered {load} of its capacity"
            ways.append(Way(excess, end=end, hops=self._hops(pair, lambda: because, "overloaded", 0.0, ok=False)))
        return [way for way in ways if way.share > 0]

    def _answer(self, pair: int, request: Request, here: Here) -> Way[None]:
        network, queue, machine = self.network, self.flow.queue, int(self.network.pairs.machine[pair])
        latency_s, name = float(queue.latency_s[machine]), self._name(pair)
        bound_s = min(float(network.pairs.response_timeout_s[pair]), here.left_s)
        work = self._work_words(machine)
        if too_late(np.array(latency_s), np.array(queue.slope[machine]), np.array(bound_s)):
            bound_s = max(bound_s, 0.0)
            end = self._failed(pair, 504, "timed_out", f"{name} answers too late", "timed_out", "taken")
            hops = self._hops(pair, lambda: f"{work}: longer than {bound_s:g} s", "too late", bound_s, ok=False)
            return Way(1.0, end=end, takes_s=bound_s, hops=hops)
        status, zone = self._status(pair, request), network.zones[int(network.machines.zone[machine])]
        good = status is None or status < 400
        reason = f"{name} in {zone} answers" + (f" {status} to {request.path}" if not good else "")
        end = End(reason, status=status, cause=None if good else "bad_status", target=name, zone=zone)
        detail = f"status {status}" if status is not None else "answers"
        return Way(1.0, end=end, takes_s=latency_s, hops=self._hops(pair, lambda: work, detail, latency_s, ok=good))

    def _work_words(self, machine: int) -> str:
        """What the time at a target is spent on."""
        queue, slowness = self.flow.queue, float(self.flow.state.truth.slowness[machine])
        work_s = float(self.network.machines.service_s[machine]) * slowness
        waits_s, load = float(queue.latency_s[machine]) - work_s, per_cent(float(queue.utilisation[machine]))
        waiting = f", {waits_s * 1000:.3g} ms of waiting at {load} of its capacity" if waits_s > 1e-9 else ""
        return f"{work_s * 1000:g} ms of work{waiting}"

    def _failed(
        self, pair: int, status: int, error: str, reason: str, cause: str, connect: Connect
    ) -> End:  # fmt: skip
        """A failure: at layer 7 the balancer answers, at layer 4 the client sees an error."""
        zone = self.network.zones[int(self.network.machines.zone[self.network.pairs.machine[pair]])]
        if self._layer(pair) == 7:
            taken: Connect = "taken" if connect == "taken" else "not taken"
            return End(reason, status, cause, cause, self._name(pair), zone, taken)
        return End(reason, None, error, cause, self._name(pair), zone, connect)

    def _name(self, pair: int) -> str:
        return self.network.machines.names[int(self.network.pairs.machine[pair])]

    def _hops(self, pair: int, why: Callable[[], str], detail: str, takes_s: float, *, ok: bool) -> Hops:
        member = int(self.network.pairs.member[pair])
        service, port = int(self.network.members.service[member]), int(self.network.members.port[member])
        protocol = self.network.services.protocol[service] if service >= 0 else "nothing"
        return lambda: [
            Hop(
                kind="service", about=f"{protocol} {port}", link=f"instance:{self._name(pair)}", ok=ok,
                because=why(), detail=detail, latency_ms=takes_s * 1000,
            )
        ]  # fmt: skip

    def _status(self, pair: int, request: Request) -> int | None:
        """The status that the service answers to this path; None where it is no web service that is asked."""
        if request.scheme not in ("http", "https"):
            return None
        machine = int(self.network.pairs.machine[pair])
        service = int(self.network.members.service[self.network.pairs.member[pair]])
        pages = dict(self.network.services.pages[service])
        for fault in self.flow.state.truth.page_faults if self.network.machines.real[machine] else ():
            served = any((fault.page or "").startswith(page) for page in pages)
            if fault.instance in (None, self.network.machines.names[machine]) and served:
                pages[fault.page or ""] = fault.status or 0
        return page_status(pages, request.path)


def _after(first: Hops, then: Hops) -> Hops:
    def hops() -> Sequence[Hop]:
        return [*first(), *then()]

    return hops if first is not no_hops else then
