"""One request on its way, hop by hop: where it goes, why there, and what else it might have met.

A trace reads the shares that the solver found; it computes none of its own, except where a hash decides for one source.
"""

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from northgate.engine.base import Floats, Ints
from northgate.engine.formulas import SmoothRoundRobin, address_keys, flow_key, too_late, winners
from northgate.engine.matching import (
    OTHERWISE,
    Check,
    Request,
    certificate_covers,
    checks,
    host_matches,
    is_address,
    listener_for,
    page_status,
    plain_host,
    redirected,
    rule_for,
    span_of,
    url_of,
)
from northgate.engine.network import Leaf, address_text
from northgate.engine.solver import Flow
from northgate.engine.trace.answer import Candidate, Explained, Hop, Outcome, RemedyAnswer, remedy_answer
from northgate.engine.trace.explanations import explanations
from northgate.engine.trace.format import per_cent
from northgate.engine.trace.history import History, told_now
from northgate.engine.trace.question import Asking, Question, Sender
from northgate.engine.trace.words import method_words, rule_candidates, tier_words, when_words
from northgate.engine.truth import ANSWERS, BARRED, REFUSES, SILENT, Paths, truth_word
from northgate.plan.balancers import Listener
from northgate.plan.problems import did_you_mean, pointer

MOST_REDIRECTS = 10


MOST_BALANCERS = 8


# Of so many targets it is said how many do not answer.
MOST_LOOKED_AT = 2000


@dataclass
class Trail:
    """A request on its way: its hops so far, and the time it took; when its present attempt began, and by when those
    balancers that it came through want its answer to begin (seconds since it was sent)."""

    hops: list[Hop] = field(default_factory=list)
    latency_s: float = 0.0
    quiet: bool = False
    began_s: float = 0.0
    due_s: float = np.inf
    # Per group the member to which the source's session binds it (-1: it has none), once that is known.
    sessions: dict[int, int] = field(default_factory=dict)

    def attempt(self) -> None:
        """A new attempt, with a fresh budget."""
        self.began_s, self.due_s = self.latency_s, np.inf

    def left_s(self, timeout_s: float) -> float:
        """How long its answer may still take, of a budget for the whole attempt and of what balancers wait."""
        return min(timeout_s - (self.latency_s - self.began_s), self.due_s - self.latency_s)

    def add(self, *, candidates: Callable[[], list[Candidate]] = list, **hop: Any) -> None:
        """Notes a hop; one of many requests is only followed, without a word about its way."""
        if not self.quiet:
            self.hops.append(Hop(candidates=candidates(), **hop))

    def amend(self, **changes: Any) -> None:
        """Changes what was said of the last hop."""
        if self.hops:
            self.hops[-1] = self.hops[-1].model_copy(update=changes)


class Ends(Exception):
    """The request ends here."""

    def __init__(self, outcome: Outcome) -> None:
        super().__init__(outcome.reason)
        self.outcome = outcome


class Unconnected(Ends):
    """A connect of the client fails: `quiet`, after its time-out, or turned away at once. `trip_s` is what the way to
    the front had added, which a client who goes on to the next address has not spent."""

    def __init__(self, outcome: Outcome, *, quiet: bool, trip_s: float = 0.0) -> None:
        super().__init__(outcome)
        self.quiet, self.trip_s = quiet, trip_s


class NotTaken(Ends):
    """A target takes no connect of a layer 7 balancer, which may try another."""


class Tracer:
    """Sends requests one after the other, and remembers whose turn it is."""

    def __init__(self, flow: Flow, question: Question, history: History) -> None:
        self.flow, self.network, self.plan = flow, flow.network, flow.network.plan
        self.question, self.history, self.ways = question, history, Paths(flow.network)
        self.turns = SmoothRoundRobin()
        # How the attempts, connects and targets before have failed in the call that is on its way.
        self.failures: list[tuple[str | None, ...]] = []
        self.stuck: dict[Any, Any] = {}
        self.asking = Asking(flow.network.plan, question)
        self.client, self.request = self.asking.client, self.asking.request
        self.pairs_met: dict[int, float] = {}
        self.cells_met: list[int] = []

    def _pick(self, point: tuple[Any, ...], shares: Floats, start: int = 0) -> int:
        """Whose turn it is at a point of choice. What has failed before in the same call makes it another point: an
        attempt does not depend on which turn the one before it took."""
        return self.turns.next((*point, *self.failures), shares, start, anywhere=bool(self.failures))

    # One request

    def send(self, number: int) -> tuple[Outcome, list[Hop]]:
        """One request to its end; only the one that is to be shown says its way."""
        shown = min(self.question.show, self.question.times - 1)
        trail, sender, request = Trail(quiet=number != shown), self.asking.sender(number), self.request
        seen: list[tuple[str, str, int, str]] = []
        try:
            for _ in range(MOST_REDIRECTS + 1):
                here = (request.scheme, request.host, request.port, request.path)
                if here in seen:
                    raise Ends(self._end(trail, None, "redirect_loop", f"it is redirected back to {url_of(request)}"))
                seen.append(here)
                request = self._call(request, sender, trail)
            raise Ends(self._end(trail, None, "too_many_redirects", f"more than {MOST_REDIRECTS} redirects"))
        except Ends as end:
            return end.outcome, trail.hops

    def _call(self, request: Request, sender: Sender, trail: Trail) -> Request:
        """One call, with its repeats; returns where a redirect sends it."""
        leaves = self._by_name(self.network.names.index(request.host), request, sender, trail)
        trail.sessions = {}
        self.failures.clear()
        for number in range(sender.retries + 1):
            trail.attempt()
            try:
                return self._attempt(leaves, request, sender, trail)
            except Ends as end:
                if number == sender.retries or not (end.outcome.error or end.outcome.cause):
                    raise
                self._note_failure(end)
                because = f"{end.outcome.reason}: the client repeats its call, {number + 1} of {sender.retries} times"
                trail.add(kind="repeat", about="again", ok=True, because=because, detail="a fresh budget")
        raise AssertionError("the last attempt ends a call")

    def _note_failure(self, end: Ends) -> None:
        self.failures.append((end.outcome.target, end.outcome.cause, end.outcome.zone))

    def _attempt(self, leaves: Sequence[Leaf], request: Request, sender: Sender, trail: Trail) -> Request:
        """One attempt: at one of the addresses, and at the next after a failed connect, if the client goes on to it."""
        left, waits = list(leaves), 0
        while True:
            leaf = left.pop(self._pick_address(left, request, sender))
            try:
                return self._at_balancer(leaf, request, sender, trail, source=None, depth=0)
            except Unconnected as end:
                waits += end.quiet
                if not sender.tries_next or not left or waits >= sender.most_waits:
                    raise
                trail.latency_s -= end.trip_s
                self._note_failure(end)
                because = f"{end.outcome.reason}: the client takes the next of {len(leaves)} addresses"
                trail.add(kind="next", about="next address", ok=True, because=because)

    def _pick_address(self, left: Sequence[Leaf], request: Request, sender: Sender) -> int:
        """Whose turn it is of the addresses that are left; whoever keeps his connection keeps its address."""
        if len(left) == 1:
            return 0
        kept = ("address", request.host, sender.area)
        if self.question.vary == "kept" and kept in self.stuck and self.stuck[kept] in left:
            return left.index(self.stuck[kept])
        chosen = self._pick((*kept, tuple(left)), np.full(len(left), 1 / len(left)))
        self.stuck.setdefault(kept, left[chosen])
        return chosen

    def _end(
        self, trail: Trail, status: int | None, error: str | None, reason: str, *, target: str | None = None,
        cause: str | None = None, zone: str | None = None,
    ) -> Outcome:  # fmt: skip
        return Outcome(
            status=status, error=error, latency_ms=round(trail.latency_s * 1000, 6), target=target, cause=cause,
            zone=zone, reason=reason,
        )  # fmt: skip

    # Names

    def _by_name(self, name: int | None, request: Request, sender: Sender, trail: Trail) -> Sequence[Leaf]:
        """The addresses by which the sender goes: those of the answer that he holds."""
        book = self.network.names
        if name is None:
            if not is_address(request.host):
                known = [plain_host(entry.name) for entry in self.plan.names]
                because = f"no name of the plan answers for {request.host}{did_you_mean(request.host, known)}"
                trail.add(kind="name", about=request.host, ok=False, because=because, where="/names")
                raise Ends(self._end(trail, None, "no_such_name", because))
            return [book.leaf_of_address(request.host)]
        held = self.held(name, sender)
        if not held:
            because = "it has no answer to give"
            trail.add(kind="name", about=request.host, ok=False, because=because, link=f"name:{request.host}")
            raise Ends(self._end(trail, None, "no_address", f"{request.host}: {because}", cause="blocked"))
        leaves = held[self._pick_set(name, held, sender)][1]
        entry = self.plan.names[name]
        trail.add(
            kind="name",
            about=entry.name,
            ok=True,
            because=self._why_answer(name, leaves, sender.area),
            detail=" · ".join(dict.fromkeys(self._answer_word(name, leaf.path[0][1]) for leaf in leaves)),
            candidates=lambda: self._answers(name, leaves, sender.area, self.leaf_shares(name, held)),
            link=f"name:{entry.name}",
            where=pointer(("names", name)),
        )
        return leaves

    def held(self, name: int, sender: Sender) -> list[tuple[float, tuple[Leaf, ...]]]:
        """The sets of addresses that clients like the sender hold now, with the share of them who do."""
        every = self.network.names.leaves[name]
        sets = self.history.held_sets(name, sender.area, sender.over_share, sender.over_s)
        return [(share, tuple(every[one] for one in places)) for places, share in sets.items() if places and share > 0]

    def _pick_set(self, name: int, held: Sequence[tuple[float, tuple[Leaf, ...]]], sender: Sender) -> int:
        point = ("name", name, sender.area)
        if self.question.vary == "kept" and point in self.stuck:
            return int(self.stuck[point])
        shares = np.array([share for share, _ in held])
        chosen = self._pick(point, shares / shares.sum())
        self.stuck[point] = chosen
        return chosen

    def leaf_shares(self, name: int, held: Sequence[tuple[float, tuple[Leaf, ...]]]) -> Floats:
        """The share of connects that set out for each leaf of a name."""
        every = self.network.names.leaves[name]
        made = np.zeros(len(every))
        for share, leaves in held:
            for leaf in leaves:
                made[every.index(leaf)] += share / len(leaves)
        return made

    def _answer_word(self, name: int, answer: int) -> str:
        entry = self.plan.names[name]
        given = entry.answers[answer] if answer < len(entry.answers) else entry.when_none_healthy
        return (given.balancer or given.address or given.host or "") if given else ""

    def _answers(self, name: int, chosen: Sequence[Leaf], area: int, shares: Floats) -> list[Candidate]:
        entry, healthy = self.plan.names[name], self.flow.state.healthy[name]
        latency = self.network.names.latency_s(name, area)
        found = []
        for number, answer in enumerate(entry.answers):
            share = sum(
                float(part)
                for leaf, part in zip(self.network.names.leaves[name], shares, strict=True)
                if leaf.path[0] == (name, number)
            )
            trip = "" if not np.isfinite(latency[number]) else f"{latency[number] * 1000:g} ms away"
            why = None
            if share == 0:
                why = self._why_not_answer(name, area, trip) if healthy[number] else "its probes believe it out"
            found.append(
                Candidate(
                    name=self._answer_word(name, number), zone=trip or None, share=share, excluded=why,
                    chosen=any(leaf.path[0] == (name, number) for leaf in chosen),
                    belief="in use" if healthy[number] else "out",
                    note=f"for {', '.join(answer.areas)}" if answer.areas else None,
                )
            )  # fmt: skip
        return found

    def _why_not_answer(self, name: int, area: int, trip: str) -> str:
        entry = self.plan.names[name]
        word = self.plan.areas[area].name if area >= 0 else "nowhere"
        return {
            "order": "stands by: an earlier answer is healthy",
            "nearest": f"further from {word}" + (f": {trip}" if trip else ""),
            "area": f"not meant for {word}",
            "share": "weight 0",
        }.get(entry.choose, "has no address now")

    def _why_answer(self, name: int, leaves: Sequence[Leaf], area: int) -> str:
        entry, healthy = self.plan.names[name], self.flow.state.healthy[name]
        number = leaves[0].path[0][1]
        word = self.plan.areas[area].name if area >= 0 else "a client of no area"
        watched = "" if entry.probe else "; nobody probes its answers"
        kept = f" · kept up to {entry.ttl_s:g} s"
        if not self._still_told(name, leaves, area):
            held_s = entry.ttl_s
            return f"an old answer: who asks now is told another, but this one may be kept up to {held_s:g} s"
        if number >= len(entry.answers):
            return f"none of its answers is healthy, so its last resort answers{kept}"
        if not healthy.any():
            return f"none of its answers is healthy, so all are taken to be{kept}"
        words = {
            "order": f"{'first' if number == 0 else f'number {number + 1}'} in order and healthy",
            "nearest": f"nearest to {word}",
            "area": f"meant for {word}" if entry.answers[number].areas else f"no answer is meant for {word}",
            "share": f"one of {int(healthy.sum())} by weight",
            "all": f"one of {int(healthy.sum())}: clients pick among them",
        }
        return words[entry.choose] + watched + kept

    def _still_told(self, name: int, leaves: Sequence[Leaf], area: int) -> bool:
        """Whether those who ask now are told these addresses."""
        every = self.network.names.leaves[name]
        return tuple(every.index(leaf) for leaf in leaves) in told_now(self.flow, name, area)

    # Balancers

    def _at_balancer(
        self, leaf: Leaf, request: Request, sender: Sender, trail: Trail, *, source: int | None, depth: int
    ) -> Request:
        if leaf.balancer < 0:
            self._outside(request, trail)
        if depth >= MOST_BALANCERS:
            raise Ends(self._end(trail, None, "too_many_balancers", "balancers stand behind each other without end"))
        front = self._front(leaf, sender, trail, at_client=source is None)
        self.let_in(front, request, sender, trail, source)
        listener = self.listener(leaf.balancer, request, trail)
        action = self.rule(leaf.balancer, listener, request, sender if source is None else None, trail)
        try:
            found = self._answered(leaf.balancer, front, action, request, sender, trail, source=source, depth=depth)
        except Ends as end:
            if not (end.outcome.error or end.outcome.cause):
                self._through(front, trail)
            raise
        self._through(front, trail)
        return found

    def _answered(
        self, balancer: int, front: int, action: Any, request: Request, sender: Sender, trail: Trail, *,
        source: int | None, depth: int,
    ) -> Request:  # fmt: skip
        """What a rule's action comes to; returns where a redirect sends the client."""
        if action.redirect:
            target = redirected(request, action.redirect)
            trail.amend(detail=f"redirect {action.redirect.status}")
            if source is None:
                return target
            zone, name = self.network.front_name(front), self.plan.balancers[balancer].name
            raise Ends(self._end(trail, action.redirect.status, None, f"{name} redirects", target=name, zone=zone))
        if action.respond:
            self.responds(balancer, front, action.respond.status, trail)
        return self._to_target(front, action.pool or "", request, sender, trail, depth)

    def _through(self, front: int, trail: Trail) -> None:
        """An answer on its way back, through what its balancer's bandwidth lets through."""
        excess = float(self.flow.front_excess[front])
        if excess <= 0 or not self._pick(("bandwidth", front), np.array([1 - excess, excess])):
            return
        name = self.plan.balancers[int(self.network.fronts.balancer[front])].name
        because = f"{per_cent(excess)} of its answers are more than the bandwidth of {name} lets through"
        trail.add(kind="service", about=name, ok=False, because=because, detail="overloaded", link=f"balancer:{name}")
        raise Ends(self._end(trail, None, "overloaded", because, target=name, cause="overloaded"))

    def _outside(self, request: Request, trail: Trail) -> None:
        trail.add(
            kind="service", about=request.host, ok=True, because="no part of the plan has this address: it answers"
        )
        reason = f"{request.host} answers, outside the plan"
        raise Ends(self._end(trail, 200, None, reason, target=request.host, zone="outside"))

    def responds(self, balancer: int, front: int, status: int, trail: Trail) -> None:
        """The balancer answers by itself."""
        name = self.plan.balancers[balancer].name
        trail.amend(detail=f"answer {status}", ok=status < 400)
        cause = "bad_status" if status >= 400 else None
        zone = self.network.front_name(front)
        reason = f"{name} answers {status} by itself"
        raise Ends(self._end(trail, status, None, reason, target=name, cause=cause, zone=zone))

    def _front(self, leaf: Leaf, sender: Sender, trail: Trail, *, at_client: bool) -> int:
        """The front that takes the request, with those that might have."""
        network, state = self.network, self.flow.state
        balancer = self.plan.balancers[leaf.balancer]
        fronts = np.flatnonzero(network.fronts.balancer == leaf.balancer)
        shares = self.front_shares(leaf, fronts, sender.area)
        addresses = network.book.balancers[balancer.name]
        address = addresses[int(leaf.front - fronts[0])] if leaf.front >= 0 else addresses[0]
        if not shares.any():
            because = "no front is in the address"
            trail.latency_s += sender.connect_timeout_s
            trail.add(
                kind="address", about=address, ok=False, because=because, link=f"balancer:{balancer.name}",
                latency_ms=sender.connect_timeout_s * 1000,
            )  # fmt: skip
            end = self._end(trail, None, "timed_out", f"{balancer.name}: {because}", cause="dead_front")
            raise Unconnected(end, quiet=True)
        kept = ("front", leaf.balancer)
        chosen = int(self.stuck[kept]) if self.question.vary == "kept" and kept in self.stuck else -1
        if chosen < 0 or not shares[chosen]:
            chosen = self._pick(("front", leaf.balancer, leaf.front, sender.area), shares)
        self.stuck[kept] = chosen
        front = int(fronts[chosen])
        zone, dead = network.front_name(front), bool(state.truth.front_dead[front])
        trip_s = self.trip_s(front, sender.area) if at_client else 0.0
        wait_s = sender.connect_timeout_s if dead else trip_s
        trail.latency_s += wait_s
        living = int((shares > 0).sum())
        because = self.history.why_front(front, dead=dead) if dead else self._why_front(balancer.address_kind, living)
        trail.add(
            kind="address", about=f"{address} · {zone} front", ok=not dead, because=because,
            detail=f"one of {living} fronts" if living > 1 else "the only front", latency_ms=wait_s * 1000,
            candidates=lambda: [
                Candidate(
                    name=network.front_name(int(one)), zone=network.front_name(int(one)), share=float(share),
                    chosen=int(one) == front, truth="dead" if state.truth.front_dead[one] else "living",
                    excluded=None if share else self._why_not_front(int(one), leaf),
                )
                for one, share in zip(fronts, shares, strict=True)
            ],
            link=f"front:{balancer.name}/{zone}", where=pointer(("balancers", leaf.balancer)),
        )  # fmt: skip
        if dead:
            reason = f"the {zone} front of {balancer.name} is dead and still in its address"
            raise Unconnected(self._end(trail, None, "timed_out", reason, cause="dead_front"), quiet=True)
        return front

    def front_shares(self, leaf: Leaf, fronts: Ints, area: int) -> Floats:
        """The share of each front of a leaf's balancer."""
        present = self.flow.state.in_address[fronts].astype(np.float64)
        if leaf.front >= 0:
            # Those who were told a front's own address come to it, in the answer or not.
            present = (fronts == leaf.front).astype(np.float64)
        if self.plan.balancers[leaf.balancer].address_kind == "anycast" and present.any():
            region = self.network.zone_region[self.network.fronts.zone[fronts]]
            trips = np.array([self._distance_s(area, int(one)) for one in region])
            near = np.where(present > 0, trips, np.inf)
            # Regions that are equally near, or equally unknown: the first in the plan.
            first = min(int(one) for one in region[(present > 0) & (near == near.min())])
            present *= region == first
        return present / present.sum() if present.any() else present

    def _distance_s(self, area: int, region: int) -> float:
        """The round trip from an area to a region (s); inf where it is not known."""
        if area < 0 or region >= len(self.plan.regions):
            return 0.0
        return self.plan.areas[area].latency_ms.get(self.plan.regions[region].name, np.inf) / 1000

    def trip_s(self, front: int, area: int) -> float:
        """The round trip from an area to a front, as far as it is known (s)."""
        found = self._distance_s(area, int(self.network.zone_region[self.network.fronts.zone[front]]))
        return found if np.isfinite(found) else 0.0

    def _why_front(self, kind: str, living: int) -> str:
        words = {
            "shared": f"one address, spread evenly over {living} front{'s' if living > 1 else ''}",
            "per-zone": "this address is this front's own",
            "anycast": "the nearest region that has a living front",
        }
        return words[kind] + self.history.lately_left()

    def _why_not_front(self, front: int, leaf: Leaf) -> str:
        if not self.flow.state.in_address[front]:
            return self.history.why_front_left(front)
        return "has an address of its own" if leaf.front >= 0 else "another region is nearer"

    def let_in(self, front: int, request: Request, sender: Sender, trail: Trail, source: int | None) -> None:
        """Route and firewall before the front."""
        came = self.ways.front(source) if source is not None else self.ways.end_of_source(sender.label, sender.span)
        protocol = "udp" if request.scheme == "udp" else "tcp"
        gone = self.flow.state.truth.gone_rules
        found = checks(self.plan, came, self.ways.front(front), protocol, request.port, gone=gone)
        trip_s = self.trip_s(front, sender.area) if source is None else 0.0
        self._passed(
            found, trail, sender.connect_timeout_s, f"{protocol} {request.port}", layer=4, target=None, trip_s=trip_s
        )

    def _passed(
        self, found: Sequence[Check], trail: Trail, wait_s: float, what: str, *, layer: int, target: str | None,
        trip_s: float = 0.0,
    ) -> None:  # fmt: skip
        for check in found:
            if check.kind == "route" and check.ok and not self.plan.networks:
                continue
            if not check.ok:
                trail.latency_s += wait_s
            trail.add(
                kind=check.kind, about=check.about, ok=check.ok, because=check.because, detail=what,
                latency_ms=0.0 if check.ok else wait_s * 1000,
                link=f"firewall:{check.about}" if check.kind == "firewall" else None, where=check.where or None,
                remedy=remedy_answer(check.remedy),
            )  # fmt: skip
            if not check.ok:
                status = 504 if layer == 7 else None
                error = "blocked" if layer == 7 else "timed_out"
                end = self._end(trail, status, error, check.because, target=target, cause="blocked")
                raise NotTaken(end) if layer == 7 else Unconnected(end, quiet=True, trip_s=trip_s)

    def listener(self, balancer: int, request: Request, trail: Trail) -> Listener:
        """The listener that takes a request, or the end of it."""
        settings = self.plan.balancers[balancer]
        at = pointer(("balancers", balancer, "listeners"))
        number = listener_for(settings, request)
        if number is None:
            known = ", ".join(f"{one.protocol} {one.port}" for one in settings.listeners) or "nothing"
            because = f"{settings.name} listens on {known}, not on {request.scheme} {request.port}"
            trail.add(kind="listener", about=f"{request.scheme} {request.port}", ok=False, because=because, where=at)
            raise Unconnected(self._end(trail, None, "refused", because, cause="refused"), quiet=False)
        listener = settings.listeners[number]
        certificate = next((one for one in self.plan.certificates if one.name == listener.certificate), None)
        covered = certificate_covers(self.plan, listener.certificate, request.host, request.scheme)
        because = f"takes {request.scheme} on port {request.port}"
        if certificate and request.scheme in ("https", "tls"):
            name = next((host for host in certificate.hosts if host_matches(host, request.host)), None)
            until = f", valid until {certificate.expires}" if certificate.expires else ""
            because = (
                f"{name} covers the host{until}"
                if name
                else f"{', '.join(certificate.hosts)} does not cover {request.host}"
            )
        named, late = covered, self.question.today
        if covered and certificate and certificate.expires and late and certificate.expires < late:
            covered, because = False, f"{certificate.name} was valid until {certificate.expires}, today is {late}"
        trail.add(
            kind="listener", about=f"{listener.protocol} {listener.port}", ok=covered, because=because,
            detail=f"certificate {certificate.name}" if certificate else listener.name,
            link=f"listener:{settings.name}/{listener.name}", where=f"{at}/{number}",
            remedy=self._cover(certificate.name, request.host) if certificate and not named else None,
        )  # fmt: skip
        if not covered:
            raise Ends(self._end(trail, None, "certificate", f"the client turns away: {because}", cause="refused"))
        return listener

    def _cover(self, certificate: str, host: str) -> RemedyAnswer:
        place = [one.name for one in self.plan.certificates].index(certificate)
        patch = {"op": "add", "path": f"/certificates/{place}/hosts/-", "value": host}
        return RemedyAnswer(words=f"let certificate {certificate} cover {host}", patch=[patch])

    def rule(self, balancer: int, listener: Listener, request: Request, sender: Sender | None, trail: Trail) -> Any:
        """What the first rule that matches says, and which it is."""
        settings = self.plan.balancers[balancer]
        rule = rule_for(listener, request, sender.span if sender else None)
        action = listener.otherwise if rule == OTHERWISE else listener.rules[rule].do
        place = settings.listeners.index(listener)
        at = pointer(("balancers", balancer, "listeners", place))
        count = len(listener.rules)
        because = f"the first of {count} rules that matches" if count > 1 else "the only rule, and it matches"
        if rule == OTHERWISE:
            because = {0: "there are no rules", 1: "the only rule does not match"}.get(
                count, f"none of {count} rules matches"
            )
        trail.add(
            kind="rule", about=f"{rule + 1} {listener.rules[rule].name}" if rule != OTHERWISE else "otherwise", ok=True,
            because=because, detail=when_words(listener.rules[rule].when) if rule != OTHERWISE else "whatever is left",
            candidates=lambda: rule_candidates(listener, rule, request, sender.span if sender else None),
            link=f"listener:{settings.name}/{listener.name}",
            where=f"{at}/rules/{rule}" if rule != OTHERWISE else f"{at}/otherwise",
        )  # fmt: skip
        return action

    # Targets

    def _to_target(self, front: int, pool: str, request: Request, sender: Sender, trail: Trail, depth: int) -> Request:
        network = self.network
        weighted = self._pool(front, pool, sender, trail)
        cell = int(network.weighted.cell[weighted])
        group = self.plan.target_groups[int(network.cells.group[cell])]
        tries = group.try_others if network.fronts.layer[front] == 7 else 0
        pair, met = self._target(cell, front, request, sender, trail), list[int]()
        while True:
            met.append(pair)
            try:
                return self._at_pair(pair, front, request, sender, trail, depth)
            except NotTaken as end:
                others = self.others(cell, front, request, sender, met)
                if len(met) > tries or not others.any():
                    raise
                self._note_failure(end)
                pair = int(network.cells.pairs[cell][self._pick(("others", cell, tuple(met)), others)])
                because = f"{end.outcome.reason}: {group.name} tries {tries} other{'s' if tries > 1 else ''} at most"
                self._say_target(cell, pair, others, because, sender, trail)

    def others(self, cell: int, front: int, request: Request, sender: Sender, met: Sequence[int]) -> Floats:
        """The shares of a cell's pairs when those that were met have taken no connect: as drawn, or in a hash's
        order."""
        network, mine = self.network, self.network.cells.pairs[cell]
        left = ~np.isin(mine, met)
        if network.cells.method[cell] == "source-hash":
            weight = np.where(left, self.flow.choice.pair_weight[mine], 0.0)
            key = address_keys([sender.span[1]])
            made = np.zeros(len(mine))
            if weight.any():
                made[winners(key, network.members.keys[network.pairs.member[mine]], weight)[0]] = 1.0
            return made
        drawn = np.where(left, self.pair_shares(cell, front, request, sender)[0], 0.0)
        return np.asarray(drawn / drawn.sum()) if drawn.sum() > 1e-12 else np.zeros(len(mine))

    def _at_pair(
        self, pair: int, front: int, request: Request, sender: Sender, trail: Trail, depth: int
    ) -> Request:  # fmt: skip
        """At a target: its answer, or what stands behind it."""
        network = self.network
        layer, member = int(network.fronts.layer[front]), int(network.pairs.member[pair])
        name = network.machines.names[int(network.pairs.machine[pair])]
        wait_s = self._hang_s(pair, sender, layer)
        if network.members.leads_on[member]:
            return self._leads_on(pair, front, request, sender, trail, depth)
        found = self._checks_to(pair, sender)
        port, trip_s = int(network.members.port[member]), self.trip_s(front, sender.area) if depth == 0 else 0.0
        self._passed(found, trail, wait_s, f"port {port}", layer=layer, target=name, trip_s=trip_s)
        self._service(pair, request, sender, trail, layer, trip_s)
        raise AssertionError("a service always ends a request")

    def _leads_on(
        self, pair: int, front: int, request: Request, sender: Sender, trail: Trail, depth: int
    ) -> Request:  # fmt: skip
        """To the balancer or name for which a target stands. To a layer 7 balancer a failed connect there is a failure
        like others; a layer 4 one passes it back."""
        network = self.network
        member, layer = int(network.pairs.member[pair]), int(network.fronts.layer[front])
        asks = self.inner_sender(pair, front, sender)
        inner = self.inner_request(pair, front, request)
        leaf = self._leads_to(member, asks, trail)
        trail.due_s = min(trail.due_s, trail.latency_s + float(network.pairs.response_timeout_s[pair]))
        try:
            return self._at_balancer(leaf, inner, asks, trail, source=front, depth=depth + 1)
        except (Unconnected, NotTaken) as end:
            raise Ends(end.outcome) if layer == 7 else end from end

    def inner_sender(self, pair: int, front: int, sender: Sender) -> Sender:
        """Who asks behind a target: at layer 7 the balancer, with its own patience for a connect; nothing is kept
        there."""
        layer = int(self.network.fronts.layer[front])
        return replace(sender, connect_timeout_s=self._hang_s(pair, sender, layer), over_share=0.0)

    def inner_request(self, pair: int, front: int, request: Request) -> Request:
        """What is asked behind a target."""
        member = int(self.network.pairs.member[pair])
        group = self.plan.target_groups[int(self.network.members.group[member])]
        scheme = group.protocol if self.network.fronts.layer[front] == 7 else request.scheme
        return replace(request, scheme=scheme, port=int(self.network.members.port[member]))

    def _leads_to(self, member: int, sender: Sender, trail: Trail) -> Leaf:
        row = next(iter(self.onward(member)))
        if isinstance(row, Leaf):
            return row
        asked = Request("", plain_host(self.plan.names[row].name), 0, "/")
        leaves = self._by_name(row, asked, sender, trail)
        return leaves[self._pick_address(leaves, asked, sender)]

    def onward(self, member: int) -> Iterator[Leaf | int]:
        """Where a target leads on: a balancer, or a name."""
        network = self.network
        name = network.machines.names[int(network.members.machine[member])]
        balancers = [one.name for one in self.plan.balancers]
        if name in balancers:
            yield Leaf((), balancers.index(name), -1)
        elif is_address(name):
            yield network.names.leaf_of_address(name)
        else:
            known = network.names.index(plain_host(name))
            yield known if known is not None else Leaf((), -1, -1)

    def _pool(self, front: int, pool: str, sender: Sender, trail: Trail) -> int:
        """The lane that the request takes: its tier and its group."""
        network, choice = self.network, self.flow.choice
        place = [one.name for one in self.plan.pools].index(pool)
        route = int(np.flatnonzero((network.routes.front == front) & (network.routes.pool == place))[0])
        serving = int(choice.route_tier[route])
        weighted_groups = np.flatnonzero((network.weighted.route == route) & (network.weighted.tier == serving))
        shares = choice.weighted_share[weighted_groups]
        tier = int(network.tiers.number[serving])
        known, whole = self._health(weighted_groups)
        refused = float(choice.route_refused[route])
        asked = self._asked_for(place, tier)
        because = f"tier {tier + 1}: {known:g} of {whole:g} targets believed in use, {asked} asked for"
        if known == 0:
            because = f"no tier has a target in use, so tier {tier + 1} decides what happens"
        none = not shares.any() or (refused > 0 and self._pick(("fail", route), np.array([1 - refused, refused])))
        trail.add(
            kind="pool", about=f"{pool} · tier {tier + 1}", ok=not none, because=because,
            detail=tier_words(tier, len(self.plan.pools[place].tiers)),
            candidates=lambda: self._tiers(route, serving), where=pointer(("pools", place, "tiers", tier)),
            link=f"pool:{pool}",
        )  # fmt: skip
        if none:
            layer = int(network.fronts.layer[front])
            reason = f"nobody of {pool} is believed in use by {self.ways.front(front).label}"
            end = self._failed(trail, layer, 503, "reset", reason, "none_healthy", {})
            raise Ends(end) if layer == 7 else Unconnected(end, quiet=False, trip_s=self.trip_s(front, sender.area))
        chosen = self._pick(("lane", route), shares / shares.sum())
        groups = self.plan.target_groups
        cells = network.weighted.cell[weighted_groups]
        group = groups[int(network.cells.group[cells[chosen]])]
        trail.add(
            kind="group", about=group.name, ok=True, detail=method_words(group.balance),
            because=f"{per_cent(float(shares[chosen]))} of {pool}, by weight" if len(weighted_groups) > 1 else "its only group",
            candidates=lambda: [
                Candidate(
                    name=groups[int(network.cells.group[cell])].name, share=float(share), chosen=number == chosen,
                    excluded=None if share else self._why_not_group(int(cell), float(network.weighted.weight[weighted])),
                )
                for number, (cell, share, weighted) in enumerate(zip(cells, shares, weighted_groups, strict=True))
            ],
            link=f"group:{group.name}", where=pointer(("target_groups", int(network.cells.group[cells[chosen]]))),
        )  # fmt: skip
        return int(weighted_groups[chosen])

    def _why_not_group(self, cell: int, weight: float) -> str:
        return "weight 0" if not weight else f"{self.flow.choice.cell_targets[cell]:g} targets, none in use"

    def _health(self, weighted_groups: Ints) -> tuple[float, float]:
        cells = self.network.weighted.cell[weighted_groups]
        return float(self.flow.choice.cell_in_use[cells].sum()), float(self.flow.choice.cell_targets[cells].sum())

    def _asked_for(self, pool: int, tier: int) -> str:
        bound = self.plan.pools[pool].tiers[tier].min_healthy
        return per_cent(bound.share) if bound.share is not None else f"{bound.count}"

    def _tiers(self, route: int, serving: int) -> list[Candidate]:
        network = self.network
        found = []
        for choice in np.flatnonzero(network.tiers.route == route):
            known, whole = self._health(np.flatnonzero(network.weighted.tier == choice))
            tier = int(network.tiers.number[choice])
            asked = self._asked_for(int(network.routes.pool[route]), tier)
            why = None
            if choice != serving:
                later = choice > serving
                why = "an earlier tier serves" if later else f"only {known:g} of {whole:g} are in use"
            found.append(
                Candidate(
                    name=f"tier {tier + 1}", share=float(choice == serving), chosen=bool(choice == serving),
                    excluded=why, note=f"{known:g} of {whole:g} in use, {asked} asked for",
                )
            )  # fmt: skip
        return found

    def _target(self, cell: int, front: int, request: Request, sender: Sender, trail: Trail) -> int:
        """The pair that is chosen, with all candidates."""
        network = self.network
        mine = network.cells.pairs[cell]
        group_index = int(network.cells.group[cell])
        drawn, why = self.pair_shares(cell, front, request, sender)
        shares = self.with_sessions(cell, drawn)
        self.cells_met.append(cell)
        stick = ("target", cell)
        sticks = self.sticks(group_index, front)
        held = self.stuck.get(stick, -1)
        if sticks and held >= 0 and self.flow.state.in_use[mine[held]]:
            chosen, why = held, f"{sticks} keeps it here while {self.ways.front(front).label} believes it in use"
        else:
            bound = self._bound_by_session(cell, trail)
            start = len(mine) * self._rank(front) // max(len(self._siblings(front)), 1)
            if bound is not None:
                chosen, why = bound, f"its session, as {shares[bound]:.3g} of all sources are bound to it or sent there"
            else:
                chosen = self._pick(("target", cell, why if "hash" in why else ""), drawn, start)
        self.stuck[stick] = chosen
        pair = int(mine[chosen])
        self._say_target(cell, pair, shares, why, sender, trail)
        return pair

    def _say_target(self, cell: int, pair: int, shares: Floats, why: str, sender: Sender, trail: Trail) -> None:
        network, mine = self.network, self.network.cells.pairs[cell]
        group = self.plan.target_groups[int(network.cells.group[cell])]
        met, name = self.met(pair, sender), network.machines.names[int(network.pairs.machine[pair])]
        some = mine[shares > 0] if len(mine) < MOST_LOOKED_AT and not trail.quiet else mine[:0]
        bad = int((np.array([self.met(int(one), sender) for one in some]) != ANSWERS).sum())
        chosen = int(np.flatnonzero(mine == pair)[0])
        trail.add(
            kind="target", about=name, ok=met == ANSWERS,
            because=why + (f"; {bad} of them {'does' if bad == 1 else 'do'} not answer" if bad else ""),
            detail=network.zones[int(network.machines.zone[network.pairs.machine[pair]])],
            candidates=lambda: self._candidates(cell, chosen, shares, sender),
            link=f"berth:{group.name}/{name}", where=pointer(("target_groups", int(network.cells.group[cell]))),
        )  # fmt: skip

    def _siblings(self, front: int) -> Ints:
        """The fronts of the same balancer: each takes turns on its own, and starts elsewhere."""
        return np.flatnonzero(self.network.fronts.balancer == self.network.fronts.balancer[front])

    def _rank(self, front: int) -> int:
        return int(np.flatnonzero(self._siblings(front) == front)[0])

    def sticks(self, group: int, front: int) -> str | None:
        """What makes the next request of this client meet the same target."""
        settings = self.plan.target_groups[group]
        same_source = self.question.vary in ("connection", "kept")
        if settings.affinity.by == "source" and same_source:
            return "its session by source"
        cookies = settings.affinity.by == "cookie" and self.network.fronts.layer[front] == 7
        if cookies and self.question.session == "kept" and same_source:
            return "its session cookie"
        if self.network.fronts.layer[front] == 4 and self.question.vary == "kept":
            return "its connection"
        return None

    def _bound_by_session(self, cell: int, trail: Trail) -> int | None:
        """The place in a cell to which the source's session binds it; None without one that counts here. Whose session
        it has is decided once a call, by turns."""
        network, mine = self.network, self.network.cells.pairs[cell]
        masses, group = self.sessions(cell), int(network.cells.group[cell])
        if masses is None:
            return None
        if group not in trail.sessions:
            every = np.append(masses, max(1 - float(masses.sum()), 0.0))
            place = self._pick(("session", group, cell), every / every.sum())
            trail.sessions[group] = int(network.pairs.member[mine[place]]) if place < len(mine) else -1
        found = np.flatnonzero(network.pairs.member[mine] == trail.sessions[group])
        return int(found[0]) if len(found) and self.flow.state.in_use[mine[found[0]]] else None

    def with_sessions(self, cell: int, drawn: Floats) -> Floats:
        """The shares of a cell's pairs for a source of the client group that may hold a session, as the group's do now:
        sessions by source; cookies, where each is asked for with its own. `drawn` is where those without are sent."""
        held = self.sessions(cell)
        if held is None:
            return drawn
        return np.asarray(held + max(1 - float(held.sum()), 0.0) * drawn)

    def sessions(self, cell: int) -> Floats | None:
        """The share of the client group's sources that a session binds to each pair of a cell; None where it sees
        none."""
        network, state, mine = self.network, self.flow.state, self.network.cells.pairs[cell]
        group = self.plan.target_groups[int(network.cells.group[cell])]
        asks = group.affinity.by == "source" or (self.question.session == "kept" and self.question.vary == "source")
        if self.client is None or state.held is None or not asks:
            return None
        for number, kind in enumerate(network.kept.sessions):
            if kind.client == self.client and cell in kind.cells:
                return np.asarray(state.held.sessions[number][network.pairs.member[mine]] * state.in_use[mine])
        return None

    def pair_shares(self, cell: int, front: int, request: Request, sender: Sender) -> tuple[Floats, str]:
        """The shares of a cell's pairs for this request, and the reason in words."""
        network, choice = self.network, self.flow.choice
        mine = network.cells.pairs[cell]
        weight = choice.pair_weight[mine]
        method = network.cells.method[cell]
        count = int((weight > 0).sum())
        anyway = " (none is believed in use, so all are sent to)" if choice.cell_anyway[cell] else " believed in use"
        if method in ("source-hash", "flow-hash"):
            targets = network.members.keys[network.pairs.member[mine]]
            if method == "source-hash":
                key = int(address_keys([sender.span[1]])[0])
                words = f"hash of {address_text(sender.span[0], sender.span[1])} over {count}{anyway}"
            else:
                address = network.book.balancers[self.network.balancer_of(front)][0]
                protocol = "udp" if request.scheme == "udp" else "tcp"
                key = flow_key(sender.span[1], sender.port, span_of(address)[1], request.port, protocol)
                words = f"hash of this connection (port {sender.port}) over {count}{anyway}"
            share = np.zeros(len(mine))
            share[winners(np.array([key], dtype=np.uint64), targets, weight)[0]] = 1.0
            return share, words
        shares = self.flow.pair_share[0][mine]
        return shares, f"{method_words(method)} over {count}{anyway}"

    def met(self, pair: int, sender: Sender) -> int:
        """What a sender's request meets at a pair."""
        met = int(self.flow.state.encounter.met[pair])
        if met == BARRED or not self._by_source(pair):
            return met
        return met if all(check.ok for check in self._checks_to(pair, sender)) else BARRED

    def _by_source(self, pair: int) -> bool:
        return len(self.plan.firewalls) > 0 and self.ways.sees_client(int(self.network.pairs.front[pair]))

    def _checks_to(self, pair: int, sender: Sender) -> list[Check]:
        seen = self.ways.end_of_source(sender.label, sender.span)
        return self.ways.to_machine_from(pair, seen, self.flow.state.truth.gone_rules)

    def _candidates(self, cell: int, chosen: int, shares: Floats, sender: Sender) -> list[Candidate]:
        """Every target of the group: in reach with its share, or why it has none."""
        network, state = self.network, self.flow.state
        group = int(network.cells.group[cell])
        by_member = {int(network.pairs.member[pair]): at for at, pair in enumerate(network.cells.pairs[cell])}
        found = []
        here = state.present(network.members.machine)
        for member in np.flatnonzero((network.members.group == group) & here):
            machine = int(network.members.machine[member])
            at = by_member.get(int(member))
            zone = network.zones[int(network.machines.zone[machine])]
            if at is None:
                reach = self.plan.target_groups[group].reach
                found.append(
                    Candidate(
                        name=network.machines.names[machine],
                        zone=zone,
                        excluded=f"out of reach: this front uses its {reach}’s",
                    )
                )
                continue
            pair = int(network.cells.pairs[cell][at])
            met, in_use = self.met(pair, sender), bool(state.in_use[pair])
            found.append(
                Candidate(
                    name=network.machines.names[machine], zone=zone, chosen=at == chosen, share=float(shares[at]),
                    truth="blocked" if met == BARRED else truth_word(met, float(state.truth.slowness[machine])),
                    belief="in use" if in_use else "out",
                    excluded=None if shares[at] > 0 or at == chosen else self._why_no_share(pair, in_use=in_use),
                    note=self.history.when_noticed(pair, wrong=in_use != (met == ANSWERS)),
                )
            )  # fmt: skip
        return found

    def _why_no_share(self, pair: int, *, in_use: bool) -> str:
        network = self.network
        if network.pairs.weight[pair] == 0:
            return "weight 0"
        if not in_use:
            return self.history.why_out(pair)
        method = network.cells.method[int(network.pairs.cell[pair])]
        if not self.flow.choice.pair_weight[pair]:
            return "another zone: this front keeps to its own"
        words = {"source-hash": "the hash falls to another", "flow-hash": "the hash falls to another"}
        return words.get(method, "busier than the others")

    # Services

    def _hang_s(self, pair: int, sender: Sender, layer: int) -> float:
        group = self.plan.target_groups[int(self.network.pairs.group[pair])]
        return group.connect_timeout_s if layer == 7 else sender.connect_timeout_s

    def _service(
        self, pair: int, request: Request, sender: Sender, trail: Trail, layer: int, trip_s: float
    ) -> None:  # fmt: skip
        """What the target answers."""
        network, state = self.network, self.flow.state
        machine, member = int(network.pairs.machine[pair]), int(network.pairs.member[pair])
        name, port = network.machines.names[machine], int(network.members.port[member])
        zone = network.zones[int(network.machines.zone[machine])]
        service = int(network.members.service[member])
        protocol = network.services.protocol[service] if service >= 0 else "nothing"
        met = int(state.encounter.met[pair])
        wait_s = self._hang_s(pair, sender, layer)
        end: dict[str, Any] = {"target": name, "zone": zone}
        hop: dict[str, Any] = {"kind": "service", "about": f"{protocol} {port}", "link": f"instance:{name}"}
        if met == SILENT:
            trail.latency_s += wait_s
            because = f"{self.history.why_down(pair)} · gave up after {wait_s:g} s"
            trail.add(**hop, ok=False, because=because, detail="silent", latency_ms=wait_s * 1000)
            reason = f"{name} is silent{self.history.not_noticed(pair)}"
            ended = self._failed(trail, layer, 504, "timed_out", reason, "timed_out", end)
            raise NotTaken(ended) if layer == 7 else Unconnected(ended, quiet=True, trip_s=trip_s)
        if met == REFUSES:
            because = self.history.why_down(pair) if service >= 0 else f"nothing on {name} serves port {port}"
            trail.add(**hop, ok=False, because=because, detail="refuses")
            reason = f"{name} refuses{self.history.not_noticed(pair)}"
            ended = self._failed(trail, layer, 502, "reset", reason, "refused", end)
            raise NotTaken(ended) if layer == 7 else Unconnected(ended, quiet=False, trip_s=trip_s)
        self._answers_or_not(pair, request, sender, trail, layer, hop, end)

    def _answers_or_not(
        self, pair: int, request: Request, sender: Sender, trail: Trail, layer: int, hop: dict[str, Any],
        end: dict[str, Any],
    ) -> None:  # fmt: skip
        network, queue = self.network, self.flow.queue
        machine, name = int(network.pairs.machine[pair]), end["target"]
        excess = float(queue.excess[machine])
        load = f"{per_cent(float(queue.utilisation[machine]))} of its capacity"
        if excess > 0 and self._pick(("full", machine), np.array([1 - excess, excess])):
            because = f"its queue is full: offered {load}"
            trail.add(**hop, ok=False, because=because, detail="overloaded")
            raise Ends(self._failed(trail, layer, 503, "reset", f"{name} is overloaded", "overloaded", end))
        latency_s = float(queue.latency_s[machine])
        bound_s = min(float(network.pairs.response_timeout_s[pair]), trail.left_s(sender.timeout_s))
        work_s = float(network.machines.service_s[machine]) * float(self.flow.state.truth.slowness[machine])
        waits = latency_s - work_s
        parts = f"{work_s * 1000:g} ms of work"
        parts += f", {waits * 1000:.3g} ms of waiting at {load}" if waits > 1e-9 else ""
        if too_late(np.array(latency_s), np.array(queue.slope[machine]), np.array(bound_s)):
            bound_s = max(bound_s, 0.0)
            trail.latency_s += bound_s
            trail.add(
                **hop, ok=False, because=f"{parts}: longer than {bound_s:g} s", detail="too late",
                latency_ms=bound_s * 1000,
            )  # fmt: skip
            raise Ends(self._failed(trail, layer, 504, "timed_out", f"{name} answers too late", "timed_out", end))
        trail.latency_s += latency_s
        status = self.status(pair, request)
        good = status is None or status < 400
        detail = f"status {status}" if status is not None else "answers"
        trail.add(**hop, ok=good, because=parts, detail=detail, latency_ms=latency_s * 1000)
        reason = f"{name} in {end['zone']} answers" + (f" {status} to {request.path}" if not good else "")
        raise Ends(self._end(trail, status, None, reason, cause=None if good else "bad_status", **end))

    def _failed(
        self, trail: Trail, layer: int, status: int, error: str, reason: str, cause: str, end: dict[str, Any]
    ) -> Outcome:
        if layer == 7:
            return self._end(trail, status, cause, reason, cause=cause, **end)
        return self._end(trail, None, error, reason, cause=cause, **end)

    def status(self, pair: int, request: Request) -> int | None:
        """The status that the service answers to this path; None where it is no web service that is asked."""
        if request.scheme not in ("http", "https"):
            return None
        service = int(self.network.members.service[self.network.pairs.member[pair]])
        pages = dict(self.network.services.pages[service])
        name = self.network.machines.names[int(self.network.pairs.machine[pair])]
        real = self.network.machines.real[self.network.pairs.machine[pair]]
        for fault in self.flow.state.truth.page_faults if real else ():
            served = any((fault.page or "").startswith(page) for page in pages)
            if fault.instance in (None, name) and served:
                pages[fault.page or ""] = fault.status or 0
        return page_status(pages, request.path)

    # Many

    def explained(self) -> list[Explained]:
        """Answers to what puzzles people, for the cells that the traced requests met."""
        return explanations(
            self.flow, self.history, list(dict.fromkeys(self.cells_met)), self.asking.sender(0).area, self.request.host
        )
