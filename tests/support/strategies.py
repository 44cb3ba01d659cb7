"""Random plans and drills for laws that hold on all of them."""

from typing import Any

from hypothesis import strategies as st

from tests.support.plans import plan_data

ZONES = ["fells-1", "fells-2", "fells-3"]
SERVES = [{"port": 8080, "protocol": "http", "pages": {"/": 200, "/ready": 200}}]


def _fleet(name: str, count: int, capacity: float | None, service_ms: float, queue_s: float) -> dict[str, Any]:
    instance = {
        "capacity_rps": capacity, "service_ms": service_ms, "queue_s": queue_s, "serves": SERVES, "tags": [name],
    }  # fmt: skip
    return {"name": name, "zones": dict.fromkeys(ZONES), "count": count, "instance": instance}


FLEETS = st.builds(
    _fleet,
    st.just("tiles"),
    st.integers(1, 7),
    st.sampled_from([None, 40, 120, 1000]),
    st.sampled_from([0, 5, 200]),
    st.sampled_from([0, 1, 10]),
)
SECOND = _fleet("other", 3, 80, 10, 2)

PROBES = st.fixed_dictionaries(
    {
        "name": st.just("ready"),
        "path": st.just("/ready"),
        "interval_s": st.sampled_from([5, 10, 12.5]),
        "timeout_s": st.sampled_from([1, 3, 5]),
        "unhealthy_after": st.integers(1, 4),
        "healthy_after": st.integers(1, 4),
        "next_after": st.sampled_from(["send", "result"]),
    }
)
GROUPS = st.fixed_dictionaries(
    {
        "name": st.just("tiles"),
        "port": st.sampled_from([8080, 8080, 8080, 9999]),
        "probe": st.sampled_from(["ready", "ready", None]),
        "targets": st.lists(
            st.builds(
                # All of a fleet carry its name as their tag, too.
                lambda kind, fleet, weight: {kind: fleet, "weight": weight},
                st.sampled_from(["fleet", "fleet", "tagged"]),
                st.sampled_from(["tiles", "other"]),
                st.integers(0, 5),
            ),
            max_size=2,
            unique_by=lambda target: target.get("fleet", target.get("tagged")),
        ),
        "reach": st.sampled_from(["zone", "prefer-zone", "region", "any"]),
        "when_none_healthy": st.sampled_from(["refuse", "send-anyway"]),
        "balance": st.sampled_from(
            ["round-robin", "round-robin", "least-connections", "two-choices", "source-hash", "flow-hash"]
        ),
        "slow_start_s": st.sampled_from([0, 0, 40]),
        "try_others": st.sampled_from([0, 0, 2]),
        "connect_timeout_s": st.sampled_from([0.2, 3]),
    }
)
AFFINITY = st.sampled_from(
    [{"by": "none"}, {"by": "none"}, {"by": "cookie", "renews": True}, {"by": "source", "renews": False, "lasts_s": 30}]
)
TIERS = st.lists(
    st.fixed_dictionaries(
        {
            "groups": st.dictionaries(st.sampled_from(["tiles", "more"]), st.integers(0, 9), min_size=1),
            "min_healthy": st.sampled_from([{"count": 1}, {"count": 3}, {"share": 0.5}]),
            "empty_group": st.sampled_from(["share-out", "fail"]),
            "fill": st.sampled_from([None, None, {"utilisation": 0.6}, {"rps_per_target": 50}]),
            "spill": st.sampled_from(["order", "nearest"]),
        }
    ),
    min_size=1,
    max_size=2,
)
PARTS = st.one_of(
    st.sampled_from(ZONES).map(lambda zone: {"zone": zone}),
    st.sampled_from(["tiles-1", "other-2"]).map(lambda name: {"instance": name}),
    st.sampled_from(["tiles-1", "other-1"]).map(lambda name: {"process": name}),
    st.sampled_from(["/ready", "/tiles"]).map(lambda page: {"page": page, "status": 503}),
    st.sampled_from([2, 30]).map(lambda factor: {"slow": "tiles-1", "factor": factor}),
    st.sampled_from(ZONES).map(lambda zone: {"front": {"balancer": "front", "zone": zone}}),
    st.just({"link": ["fells-1", "fells-2"]}),
    st.just({"region": "fells"}),
)


WATCH = {"name": "watch", "protocol": "https", "port": 443, "path": "/ready", "interval_s": 10, "timeout_s": 5}


BY_HAND = st.sampled_from(
    [
        {"roll": {"group": "tiles", "batch": 2, "restart_s": 20}},
        {"roll": {"group": "tiles", "batch": 1, "wait_for": "restarted", "restart_s": 5}},
        {"remove": {"instance": "tiles-1"}},
        {"scale": {"fleet": "other", "count": 3}},
        {"scale": {"fleet": "other", "count": 0}},
        {"change_answers": {"name": "www.beckwater.example", "answers": [{"balancer": "front", "weight": 3}]}},
    ]
)


@st.composite
def plans_with_a_drill(draw: st.DrawFn) -> dict[str, Any]:
    """A small plan with one drill of one to four faults, most of which are taken back."""
    groups = [draw(GROUPS) | {"affinity": draw(AFFINITY)}, draw(GROUPS) | {"name": "more", "affinity": draw(AFFINITY)}]
    data = plan_data(
        fleets=[draw(FLEETS), SECOND],
        probes=[draw(PROBES), WATCH],
        target_groups=groups,
        pools=[{"name": "web", "tiers": draw(TIERS)}],
    )
    data["clients"][0]["calls"][0]["kilobytes"] = 40
    data["clients"][0] |= {
        "rps": draw(st.sampled_from([1, 300, 900])),
        "timeout_s": draw(st.sampled_from([0.5, 10])),
        "sources": draw(st.sampled_from([3, 200])),
        "tries_next_address": draw(st.booleans()),
        "overholds": draw(st.sampled_from([{"share": 0, "s": 0}, {"share": 0.3, "s": 90}])),
    }
    data["clients"][0]["retries"] = draw(st.sampled_from([0, 0, 2]))
    data["balancers"][0] |= {
        "address_kind": draw(st.sampled_from(["shared", "shared", "per-zone", "floating"])),
        "returns": draw(st.booleans()),
        "withdraw_when": draw(st.sampled_from(["dead", "no-targets"])),
        "bandwidth_mbps": draw(st.sampled_from([None, None, 50])),
        "addresses": [],
    }
    if draw(st.sampled_from([7, 7, 4])) == 4:
        listener = {**data["balancers"][0]["listeners"][0], "protocol": "tls"}
        data["balancers"][0] |= {"layer": 4, "listeners": [listener]}
        data["target_groups"][0]["on_out"] = draw(st.sampled_from(["keep", "reset"]))
    if draw(st.booleans()):
        other = {**data["balancers"][0], "name": "other-front", "zones": {"fells-3": None}}
        other["bandwidth_mbps"] = draw(st.sampled_from([None, 20]))
        data["balancers"].append(other)
        data["names"][0] |= {
            "answers": [{"balancer": "front"}, {"balancer": "other-front", "weight": 2}],
            "choose": draw(st.sampled_from(["order", "share", "all", "area", "nearest"])),
            "standby_share": draw(st.sampled_from([0, 0.1])),
            "probe": "watch",
            "probed_from": ["uplands"],
            "ttl_s": draw(st.sampled_from([0, 20, 60])),
        }
    steps = []
    for part in draw(st.lists(PARTS, min_size=1, max_size=4, unique_by=str)):
        start = draw(st.integers(0, 120))
        steps.append({"at_s": start, "fail": part})
        if draw(st.booleans()):
            steps.append({"at_s": start + draw(st.integers(1, 60)), "restore": part})
    if draw(st.booleans()):
        steps.append({"at_s": draw(st.integers(0, 200)), "drain": {"instance": "tiles-1"}})
    if draw(st.booleans()):
        steps.append({"at_s": draw(st.integers(0, 120)), **draw(BY_HAND)})
    phases = draw(st.sampled_from(["spread", "best", "worst"]))
    return data | {"drills": [{"name": "any", "lasts_s": 240, "phases": phases, "steps": steps}]}
