"""Every rule finds what it is about, and finds nothing where there is nothing."""

import pytest

from northgate.engine.drill import Losing
from northgate.engine.network import compile_network
from northgate.engine.reports.losses import alike, loss_row
from northgate.plan import plan_from_data
from northgate.plan.editing import patched
from northgate.review import RULES, review
from tests.review.plans import GAUGES, TODAY, WWW, allow, but, found, machine, whole, without
from tests.support.plans import changed

TILES, FRONT, LISTENER = "/target_groups/0", "/balancers/0", "/balancers/0/listeners/0"
FLEET = "/fleets/0/instance"
ANSWER = {"balancer": "fells-front"}


def rule(name, **when):
    return {"name": name, "when": when, "do": {"pool": "web"}}


def group(name="trial", **more):
    return {"name": name, "port": 8080, "probe": "ready", "targets": [{"fleet": "tiles"}], **more}


def everywhere(field, value):
    """All machines get this."""
    return but(*((f"/fleets/{number}/instance/{field}", value) for number in range(4)))


def layer_4(data=None, **changes):
    """One layer 4 balancer for the gauges' own collectors beside the others."""
    data = data or whole()
    data["fleets"].append(
        {"name": "gauges", "zones": {"fells-1": "fells-1-net", "fells-2": "fells-2-net"}, "count": 4,
         "instance": machine(5000, 400) | {"serves": [{"port": 5000, "protocol": "tcp"}]}}
    )  # fmt: skip
    data["probes"].append({"name": "dial", "protocol": "tcp"})
    data["target_groups"].append(
        {"name": "gauges", "port": 5000, "protocol": "tcp", "probe": "dial", "targets": [{"fleet": "gauges"}],
         "balance": "flow-hash"} | changes
    )  # fmt: skip
    data["pools"].append({"name": "gauges", "tiers": [{"groups": {"gauges": 1}}]})
    data["balancers"].append(
        {"name": "gauge-front", "layer": 4, "zones": {"fells-1": "fells-1-net", "fells-2": "fells-2-net"},
         "listeners": [{"name": "tcp", "protocol": "tcp", "port": 5000, "otherwise": {"pool": "gauges"}}]}
    )  # fmt: skip
    data["names"].append({"name": GAUGES, "answers": [{"balancer": "gauge-front"}]})
    data["clients"].append({"name": "gauges", "area": "uplands", "rps": 50, "calls": [{"url": f"tcp://{GAUGES}:5000"}]})
    data["firewalls"][1]["allow_in"] += [allow(5000, "balancer:gauge-front"), allow(5000, "198.18.0.0/16")]
    return data


def knows_the_balancer_only():
    data = layer_4()
    data["firewalls"][1]["allow_in"].pop()
    return data


def internal():
    return but((f"{FRONT}/exposure", "internal"))


def overlapping():
    return but(
        ("/networks/1/cidr", "10.20.0.0/15"),
        ("/networks/1/subnets/0/cidr", "10.21.0.0/24"),
        ("/networks/1/subnets/1/cidr", "10.21.1.0/24"),
    )


def appended(place, *items):
    data = whole()
    for item in items:
        inner = data
        for step in place.strip("/").split("/"):
            inner = inner[int(step)] if isinstance(inner, list) else inner[step]
        inner.append(item)
    return data


def all_in_fells_1():
    return but(("/fleets/0/zones", {"fells-1": "fells-1-net"}), (f"{TILES}/targets", [{"fleet": "tiles"}]))


def standby_beside():
    """The alerts' second choice stands where the first does."""
    data = all_in_fells_1()
    data = changed(data, "/fleets/2/zones", {"fells-1": "fells-1-net"})
    return changed(data, "/target_groups/1/targets", [{"fleet": "alerts"}])


def shared_choice():
    data = appended("/target_groups", group())
    tier = {"groups": {"tiles": 95, "trial": 5}, "empty_group": "fail"}
    return changed(data, "/pools/0/tiers/0", tier)


def one_collector():
    data = layer_4()
    data["fleets"][4]["count"] = 1
    return data


def last_choice_small():
    data = appended("/fleets", {"name": "page", "zones": {"fells-1": "fells-1-net"}, "count": 2,
                                "instance": machine(8080, 20)})  # fmt: skip
    data["target_groups"].append(group("page", targets=[{"fleet": "page"}]))
    data["pools"][0]["tiers"].append({"groups": {"page": 1}})
    return data


CASES = [
    # As it is written.
    ("dangling-reference", but((f"{TILES}/probe", "redy"))),
    ("probe-impatient", but(("/probes/0/timeout_s", 20))),
    ("unknown-host", but(("/clients/0/calls/0/url", "https://ww.beckwater.example/"))),
    ("name-probe-port", but(("/names/0/probe", "ready"))),
    ("late-step", but(("/drills/0/lasts_s", 30))),
    ("straight-to-instance", but(
        ("/instances", [{"name": "old", "zone": "fells-1", "subnet": "fells-1-net", "address": "10.20.0.99"}]),
        ("/clients/0/calls/0/url", "http://10.20.0.99:8080/"),
    )),
    ("no-address", but(
        ("/instances", [{"name": "old", "zone": "fells-1"}]), ("/names/0/answers/1", {"instance": "old"}),
    )),
    ("port-twice", but(("/balancers/0/listeners/1/port", 443))),
    ("certificate-missing", without(f"{LISTENER}/certificate")),
    ("subnet-astray", but(("/networks/0/subnets/0/cidr", "10.99.0.0/24"))),
    ("address-twice", but(("/balancers/1/addresses", ["203.0.113.10"]))),
    ("subnet-elsewhere", but(("/fleets/0/zones", {"fells-1": "fells-2-net"}))),
    ("address-outside-subnet", but(
        ("/instances", [{"name": "old", "zone": "fells-1", "subnet": "fells-1-net", "address": "10.99.0.1"}]),
    )),
    ("names-alike", appended("/names", {"name": WWW.upper(), "answers": [ANSWER]})),
    ("replaces-nothing", but(("/platform", {"replace_only": ["balancer.later"]}))),
    ("count-beyond-scale", but(("/fleets/0/scale", {"min": 6, "max": 9, "target_utilisation": 0.6}))),
    ("cookie-unseen", layer_4(affinity={"by": "cookie"})),
    ("latency-unknown", but(("/names/0/choose", "nearest"), ("/areas/0/latency_ms", {"fells": 12}))),
    # Places.
    ("networks-overlap", overlapping()),
    ("one-zone", all_in_fells_1()),
    ("one-fault-domain", everywhere("fault_domain", "rack-1")),
    ("one-wave", everywhere("maintenance_wave", 3)),
    ("one-target", one_collector()),
    ("own-zone-empty", but((f"{TILES}/reach", "zone"), ("/fleets/0/zones", {"fells-1": "fells-1-net"}))),
    ("floating-alone", but((f"{FRONT}/address_kind", "floating"), (f"{FRONT}/zones", {"fells-1": "fells-1-net"}))),
    ("uneven-zones", but((f"{TILES}/reach", "prefer-zone"), ("/fleets/0/count", 3))),
    ("standby-shares-fate", standby_beside()),
    # Listeners.
    ("no-listener", but((f"{FRONT}/listeners", []))),
    ("nobody-listens", but(("/clients/0/calls/0/url", f"https://{WWW}:8443/"))),
    ("standby-deaf", without("/balancers/1/listeners/1")),
    ("certificate-host", but(("/certificates/0/hosts", ["www.beckwater.example", "*.other.example"]),
                             ("/names/0/name", GAUGES), ("/clients/0/calls", [{"url": f"https://{GAUGES}/"}]))),
    ("certificate-expired", but(("/certificates/0/expires", "2027-01-14"))),
    ("certificate-expires-soon", but(("/certificates/0/expires", "2027-02-14"))),
    ("redirect-loop", but(
        ("/balancers/0/listeners/1/otherwise", {"redirect": {"path": "/"}}), ("/clients/0/calls/2/url", f"http://{WWW}/"),
    )),
    ("call-refused", but((f"{LISTENER}/otherwise", {"respond": {"status": 404}}))),
    ("rule-shadowed", appended(f"{LISTENER}/rules", rule("near", host=[WWW], path=["/alerts/near"]))),
    ("rule-unreachable", appended(f"{LISTENER}/rules", rule("old", host=["old.beckwater.example"]))),
    ("otherwise-no-fallback", without("/pools/1/tiers/1")),
    ("internal-behind-public", internal()),
    ("balancer-idle-race", but((f"{FRONT}/idle_timeout_s", 20))),
    ("limit-exceeded", but(("/platform", {"limits": {"listeners_per_balancer": 1}}))),
    ("limit-exceeded", but(("/platform", {"limits": {"rules_per_listener": 0}}))),
    ("limit-exceeded", but(("/platform", {"limits": {"targets_per_group": 7}}))),
    ("limit-exceeded", appended("/target_groups", group()) | {"platform": {"limits": {"groups_per_target": 1}}}),
    ("two-balancers", but(("/platform", {"one_balancer_per_target": True}))),
    # Names.
    ("name-without-answers", appended("/names", {"name": GAUGES})),
    ("answers-never-withdrawn", without("/names/0/probe")),
    ("name-slow", but(("/names/0/ttl_s", 600))),
    ("nowhere-else", without("/names/0/answers/1")),
    ("probed-from-nowhere", without("/names/0/probed_from")),
    ("area-unanswered", but(("/names/0/choose", "area"), ("/names/0/answers", [{**ANSWER, "areas": ["lowlands"]}]),
                            ("/areas", [{"name": "uplands", "latency_ms": {"fells": 1}}, {"name": "lowlands"}]))),
    ("standby-small", but(("/fleets/1/instance/capacity_rps", 20), ("/fleets/3/instance/capacity_rps", 20))),
    ("standby-small", last_choice_small()),
    ("answer-believed-dead", but(("/probes/1/expect", ["404"]))),
    # Probes.
    ("empty-group", but((f"{TILES}/targets", []))),
    ("port-not-served", but((f"{FLEET}/serves/0/port", 9000))),
    ("port-not-served", but((f"{TILES}/protocol", "https"))),
    ("probe-port", but(("/probes/0/port", 9000))),
    ("probe-protocol", but(("/probes/0/protocol", "https"))),
    ("probe-path", but(("/probes/0/expect", ["204"]))),
    ("no-probe", without(f"{TILES}/probe")),
    ("probe-elsewhere", but((f"{FLEET}/serves/0/port", 8080), ("/probes/0/port", 8080))),
    ("probe-twitchy", but(("/probes/0/interval_s", 0.5), ("/probes/0/timeout_s", 0.5))),
    ("probe-hasty", but(("/probes/0/timeout_s", 0.05))),
    ("probe-slow", but(("/probes/0/interval_s", 60))),
    ("probe-load", but(("/probes/0/interval_s", 0.05), ("/probes/0/timeout_s", 0.05))),
    # Reach.
    ("front-blocked", without("/firewalls/0/allow_in/1")),
    ("target-blocked", without("/firewalls/1/allow_in/0")),
    ("probe-blocked", but(("/probes/0/port", 8070), (f"{FLEET}/serves",
        [{"port": 8080, "protocol": "http"}, {"port": 8070, "protocol": "http"}]))),
    ("requests-blocked", but(("/probes/0/port", 8081), ("/firewalls/1/allow_in/0/ports", ["8081"]), (f"{FLEET}/serves",
        [{"port": 8080, "protocol": "http"}, {"port": 8081, "protocol": "http", "pages": {"/ready": 200}}]))),
    ("client-blocked-at-target", knows_the_balancer_only()),
    ("nobody-in-use", but(("/probes/0/expect", ["204"]))),
    ("page-missing", everywhere("serves", [{"port": 8080, "protocol": "http", "pages": {"/ready": 200}},
                                           {"port": 8081, "protocol": "http", "pages": {"/ready": 200}}])),
    # Shares.
    ("weights-zero", but((f"{TILES}/targets", [{"fleet": "tiles", "weight": 0}]))),
    ("weights-zero", but(("/pools/0/tiers/0/groups", {"tiles": 0}))),
    ("weights-cancel", but((f"{TILES}/targets", [{"fleet": "tiles", "weight": 5}, {"fleet": "tiles-c", "weight": 5}]))),
    ("group-loses-share", shared_choice()),
    ("few-sources", but((f"{TILES}/balance", "source-hash"), ("/clients/0/sources", 12))),
    ("hash-skew", but((f"{TILES}/balance", "source-hash"), ("/clients/0/sources", 12))),
    ("sessions-stay", but((f"{TILES}/affinity", {"by": "cookie", "lasts_s": 3600}))),
    ("drain-short", but((f"{TILES}/drain_s", 0))),
    ("repeats-multiply", but((f"{TILES}/try_others", 2), ("/clients/0/retries", 2))),
    ("overloaded", but(("/clients/0/rps", 9000))),
    ("nearly-full", but(("/clients/0/rps", 2200))),
    ("bandwidth", but((f"{FRONT}/bandwidth_mbps", 65), ("/clients/0/calls/0/kilobytes", 40))),
    # What could be left out.
    ("tag-carried-by-nobody", but((f"{TILES}/targets", [{"tagged": "tiles"}]), (f"{FLEET}/tags", ["tilez"]))),
    ("unused", appended("/probes", {"name": "idle"})),
    ("balancer-unasked", without("/names/0/answers/1")),
    ("machine-idle", but(("/instances", [{"name": "old", "zone": "fells-1"}]))),
    ("ttl-long", but(("/drills/0/expect", [{"reading": "settled_s", "at_most": 20}]))),
    ("nothing-rehearsed", but(("/drills", []))),
    ("nothing-rehearsed", but(("/drills/0/expect", []))),
    ("accepted-nothing", but(("/accepted", [{"code": "one-zome", "about": "tiles", "because": "a trial"}]))),
]  # fmt: skip

QUIET = [
    # Near to what a rule is about, and yet no reason to find anything.
    ("probe-impatient", but(("/probes/0/timeout_s", 10))),
    ("certificate-expired", but(("/certificates/0/expires", str(TODAY)))),
    ("certificate-expires-soon", but(("/certificates/0/expires", "2027-02-15"))),
    ("own-zone-empty", but((f"{TILES}/reach", "prefer-zone"), ("/fleets/0/zones", {"fells-1": "fells-1-net"}))),
    ("floating-alone", but((f"{FRONT}/address_kind", "floating"))),
    ("uneven-zones", but(("/fleets/0/count", 3))),
    ("networks-overlap", but(("/networks/1/cidr", "10.31.0.0/16"))),
    ("one-fault-domain", but((f"{FLEET}/fault_domain", "rack-1"))),
    ("standby-deaf", but(("/clients/0/calls/2/url", f"https://{WWW}/"))),
    ("redirect-loop", but(("/balancers/0/listeners/1/otherwise", {"redirect": {"protocol": "https", "port": 443}}))),
    ("nobody-listens", but(("/balancers/0/listeners/0/port", 8443), ("/clients/0/calls", [{"url": f"https://{WWW}:8443/"}]))),
    ("rule-shadowed", appended(f"{LISTENER}/rules", rule("tiles", path=["/tiles/*"]))),
    ("answers-never-withdrawn", but(("/names/0/choose", "all"))),
    ("probe-elsewhere", but((f"{TILES}/port", 8080), ("/probes/0/port", "same"))),
    ("client-blocked-at-target", layer_4()),
    ("no-probe", appended("/target_groups", group(probe=None))),
    ("weights-cancel", but((f"{TILES}/targets", [{"fleet": "tiles", "weight": 5}, {"fleet": "tiles-c", "weight": 4}]))),
    ("sessions-stay", but((f"{TILES}/affinity", {"by": "cookie", "lasts_s": 3600, "renews": False}))),
    ("few-sources", but((f"{TILES}/balance", "source-hash"))),
    ("repeats-multiply", but(("/clients/0/retries", 4))),
    ("limit-exceeded", but(("/platform", {"limits": {"listeners_per_balancer": 2, "targets_per_group": 8}}))),
    ("accepted-nothing", but(("/accepted", [{"code": "one-zone", "about": "tiles", "because": "a trial"}]))),
]  # fmt: skip


def codes(data, losses=None):
    return {one.code for one in found(data, losses)}


def lost(data, *kinds):
    network = compile_network(plan_from_data(data))
    losing = Losing(network)
    return [loss_row(losing, [one]) for one in alike(network) if one.kind in kinds]


def tight(field=None, value=None, rps=1400):
    """Half of the fells cannot do all; what is too much is turned away at once, so that no probe waits."""
    data = everywhere("queue_s", 0)
    data["clients"][0]["rps"] = rps
    data["fleets"][0] |= {"count": 2}
    data["fleets"].append({**data["fleets"][0], "name": "tiles-b"})
    data["target_groups"][0]["targets"].append({"fleet": "tiles-b"})
    if field:
        data["fleets"][0]["instance"] = data["fleets"][0]["instance"] | {field: value}
    return data


LOSING = [
    ("zone-overload", tight(), "zone"),
    ("fault-domain-overload", tight("fault_domain", "rack-1"), "fault_domain"),
    ("wave-overload", tight("maintenance_wave", 1), "maintenance_wave"),
    ("region-overload", changed(tight(rps=1200), "/fleets/1/count", 1), "region"),
    ("cascade", but(("/clients/0/rps", 1400)), "zone"),
    ("single-point", one_collector(), "instance"),
    ("last-region", layer_4(), "region"),
]  # fmt: skip


def test_nothing_is_found_where_there_is_nothing():
    data = whole()
    assert found(data, lost(data, "zone", "front", "region")) == []


@pytest.mark.parametrize(("code", "data"), CASES, ids=[f"{code}-{at}" for at, (code, _) in enumerate(CASES)])
def test_a_rule_finds(code, data):
    mine = [one for one in found(data) if one.code == code]
    assert mine
    assert {one.severity for one in mine} == {RULES[code].severity}
    for one in mine:
        assert one.message[0] != " "
        assert one.remedy
        assert one.about
    patches = [one.patch for one in mine if one.patch]
    assert not patches or mends(code, data, patches)


@pytest.mark.parametrize(("code", "data"), QUIET, ids=[f"{code}-{at}" for at, (code, _) in enumerate(QUIET)])
def test_a_rule_finds_nothing_near_by(code, data):
    assert code not in codes(data)


def mends(code, data, patches):
    """Applied all at once, the edits of one rule leave it nothing to find."""
    plan, once = plan_from_data(data), [patch for at, patch in enumerate(patches) if patch not in patches[:at]]
    # The last in the document first, so that what is removed moves nothing.
    for patch in reversed(once):
        plan = patched(plan, patch)
    return code not in {one.code for one in review(plan, TODAY).findings}


@pytest.mark.parametrize(("code", "data", "kind"), LOSING, ids=[code for code, *_ in LOSING])
def test_what_a_loss_comes_to_is_found(code, data, kind):
    assert code in codes(data, lost(data, kind))
    assert code not in codes(whole(), lost(whole(), kind))


def test_every_rule_is_shown_to_find():
    assert {code for code, *_ in [*CASES, *LOSING]} == set(RULES)
