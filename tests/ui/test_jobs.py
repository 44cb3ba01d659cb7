"""Twenty jobs of engineers, each done wholly in the interface; five of them by keys alone."""

import json
import os
import re
import time
from pathlib import Path
from queue import Queue

import pytest
from playwright.sync_api import expect

from tests.support.plans import plan_data
from tests.support.waits import WAIT_S
from tests.ui.hands import Hands, Keys, number_in, plan_text

pytestmark = pytest.mark.xdist_group("jobs")

NAME = "www.beckwater.example"


@pytest.fixture
def begin(page, client, request):
    """Opens a plan with hands on it; what the job took is noted where somebody wants to know."""
    began, hands = time.monotonic(), []

    def open_plan(kind=Hands, data=None, key=None, **changes):
        made = key or client.post("/api/plans", content=plan_text(data or plan_data(**changes))).json()["key"]
        hands.append(kind(page, made, lambda: client.get(f"/api/plans/{made}").json()))
        if key is None:
            page.goto(f"/plans/{made}/board")
            expect(page.get_by_test_id("board")).to_be_visible()
        return hands[0]

    yield open_plan
    if hands and (kept := os.environ.get("NORTHGATE_JOBS")):
        line = {"job": request.node.name, "steps": hands[0].steps(), "seconds": round(time.monotonic() - began, 1)}
        with Path(kept).open("a") as file:
            file.write(json.dumps(line) + "\n")


def state(client, hands):
    return client.get(f"/api/plans/{hands.key}/state").json()


def berth(client, hands, target):
    return next(one for one in state(client, hands)["berths"] if one["target"] == target)


def machines(count, *zones):
    """Instances in zones in turn, which serve http on 8080."""
    return [
        {"name": f"maps-{n + 1}", "zone": zones[n % len(zones)], "capacity_rps": 1000, "service_ms": 20,
         "serves": [{"port": 8080, "protocol": "http"}]}
        for n in range(count)
    ]  # fmt: skip


def test_job_1_a_site_with_two_pools_of_mixed_targets_and_a_last_resort(page, client, begin):
    hands = begin(
        clients=[{"name": "walkers", "area": "uplands", "rps": 100, "calls": [{"url": f"https://{NAME}/maps/1"}]}]
    )
    hands.add("target group", "elsewhere")
    nothing = dict.fromkeys(("instance", "fleet", "tagged", "address", "host", "balancer", "port")) | {"weight": 1}
    ends = [{"host": "partner.beckwater.example"}, {"address": "198.51.100.7"}]
    hands.become("/target_groups/1/targets", [nothing | end for end in ends])
    hands.choose("Probe", "ready")
    hands.see("web")
    hands.add_to("/pools/0/tiers")
    hands.add("pool", "maps")
    hands.become("/pools/1/tiers/0/groups", {"tiles": 1})
    hands.find("https 443")
    hands.add_rule("/balancers/0/listeners/0/rules/0", rule("by-path", {"path": ["/maps/*"]}))
    hands.add_rule("/balancers/0/listeners/0/rules/1", rule("by-header", {"header": {"x-maps": ["1"]}}))
    hands.see("tiles target group")
    hands.become("/target_groups/0/affinity/by", "cookie")
    hands.find("Index of the plan")
    page.get_by_label("used by nobody").check()
    expect(page.get_by_test_id("index-count")).to_have_text("0 objects")
    hands.board()
    page.get_by_test_id("standing").click()
    page.get_by_role("button", name=re.compile("Agree on revision")).click()
    expect(page.get_by_test_id("standing")).to_have_text("agreed")
    assert [tier["groups"] for tier in hands.document()["pools"][0]["tiers"]] == [{"tiles": 1}, {"elsewhere": 1}]
    assert {one["target"] for one in state(client, hands)["berths"] if one["zone"] == "outside"} == {
        "partner.beckwater.example", "198.51.100.7",
    }  # fmt: skip


def rule(name, when):
    nothing = dict.fromkeys(("host", "path", "method", "header", "query", "source"))
    return {"name": name, "when": nothing | when, "do": {"pool": "maps", "redirect": None, "respond": None}}


def test_job_2_two_servers_behind_one_address_at_layer_4(page, client, begin):
    group = {
        "name": "maps",
        "port": 8080,
        "probe": "ready",
        "targets": [{"instance": "maps-1"}, {"instance": "maps-2"}],
    }
    hands = begin(
        fleets=[], instances=machines(2, "fells-1", "fells-2"), target_groups=[group],
        pools=[{"name": "web", "tiers": [{"groups": {"maps": 1}}]}],
        clients=[{"name": "walkers", "rps": 100, "calls": [{"url": f"http://{NAME}:443/"}]}],
    )  # fmt: skip
    hands.see("front balancer")
    hands.choose("Layer", "4")
    hands.inspector.get_by_role("button", name="Change them together").click()
    expect(hands.inspector).to_contain_text("public, layer 4")
    hands.find("tls 443")
    hands.choose("Protocol", "tcp")
    hands.write("Port", "80")
    hands.see("front balancer")
    hands.write("Idle timeout", "300")
    hands.see("walkers")
    hands.become("/clients/0/calls/0/url", f"http://{NAME}/")
    hands.trace(None, "20", "one connection")
    expect(page.get_by_test_id("beads").locator("li")).to_have_count(20)
    expect(page.get_by_test_id("by-area")).to_have_count(0)
    expect(page.get_by_role("region", name="Questions")).to_contain_text("refreshing")
    hands.find("maps-1 target")
    page.get_by_role("button", name="Break it in another way").click()
    page.get_by_role("menuitemcheckbox", name=re.compile("Its process crashes")).click()
    expect(page.get_by_test_id("banner")).to_contain_text("the process of maps-1 crashed")
    page.get_by_role("radio", name=re.compile("settled")).click()
    served = page.locator("[data-zone=fells-2] [data-reading=zone-served]")
    expect(served).to_have_text("100/s")
    balancer = hands.document()["balancers"][0]
    assert (balancer["layer"], balancer["idle_timeout_s"], balancer["listeners"][0]["port"]) == (4, 300, 80)


def test_job_3_a_balancer_takes_the_address_of_a_server_over(page, client, begin):
    page.goto("/start")
    page.get_by_role("radio", name="From a server").click()
    for label, text in (
        ("What is it called?", "Vale maps"),
        ("The server’s name", "maps-1"),
        ("Its address", "203.0.113.40"),
    ):
        page.get_by_label(label).fill(text)
    page.get_by_role("button", name="Open its board").click()
    expect(page.get_by_test_id("board")).to_contain_text("its own address")
    hands = begin(key=re.search("/plans/([^/]+)/board", page.url)[1])
    hands.see("here region")
    hands.become("/regions/0/zones", ["here-1", "here-2"])
    hands.add("instance", "maps-2")
    hands.choose("Zone", "here-2")
    hands.become("/instances/1/serves/0/port", 443)
    hands.become("/instances/1/serves/0/protocol", "https")
    hands.add("probe", "up")
    hands.become("/probes/0/protocol", "tcp")
    hands.add("target group", "maps")
    assert [one["instance"] for one in hands.document()["target_groups"][0]["targets"]] == ["maps-1", "maps-2"]
    hands.add("pool", "maps")
    hands.add("certificate", "public")
    hands.add("balancer", "front")
    hands.see("maps-1 instance")
    hands.write("Public address", "")
    hands.see("front balancer")
    hands.become("/balancers/0/addresses", ["203.0.113.40"])
    hands.see(f"{NAME} name")
    hands.become(
        "/names/0/answers/0",
        {"balancer": "front", "instance": None, "address": None, "host": None, "weight": 1, "areas": []},
    )
    hands.drill()
    happened = page.get_by_role("region", name="What happened")
    expect(happened).to_contain_text("maps-1 out")
    expect(happened).to_contain_text("maps-1 back in use")
    before = number_in(page.get_by_test_id("summary").inner_text())
    hands.see("up probe")
    hands.write("Every", "5")
    expect(hands.inspector.get_by_test_id("consequence")).to_contain_text("refused: 10–15 s")
    hands.drill()
    expect(page.get_by_test_id("summary")).not_to_contain_text(f"{before:,.0f} requests")
    assert number_in(page.get_by_test_id("summary").inner_text()) < before


def front(region, *zones, pool="web"):
    """A balancer that takes http on port 80."""
    listener = {"name": "http", "protocol": "http", "port": 80, "otherwise": {"pool": pool}}
    return {"name": f"{region}-front", "zones": dict.fromkeys(zones), "listeners": [listener]}


def of_machines(*names, group="maps", **more):
    """A group of these machines, and the pool that leads to it."""
    targets = [{"instance": name} for name in names]
    return {
        "fleets": [],
        "target_groups": [{"name": group, "port": 8080, "probe": "ready", "targets": targets} | more],
        "pools": [{"name": "web", "tiers": [{"groups": {group: 1}}]}],
    }


TWO = of_machines("maps-1", "maps-2") | {
    "regions": [{"name": "fells", "zones": ["fells-1"]}, {"name": "coast", "zones": ["coast-1"]}],
    "areas": [
        {"name": "uplands", "latency_ms": {"fells": 10, "coast": 30}},
        {"name": "overseas", "latency_ms": {"fells": 90, "coast": 80}},
    ],
    "instances": machines(2, "fells-1", "coast-1"),
    "balancers": [front("fells", "fells-1"), front("coast", "coast-1")],
    "names": [{"name": NAME, "answers": [{"balancer": "fells-front"}, {"balancer": "coast-front"}]}],
    "clients": [{"name": "walkers", "area": "uplands", "rps": 100, "calls": [{"url": f"http://{NAME}/"}]}],
}


def test_job_4_two_places_by_order_weight_latency_and_geography(page, client, begin):
    hands = begin(**TWO)

    def who_got_what(choose):
        hands.see(f"{NAME} name")
        hands.choose("Chosen by", choose)
        hands.trace(None, "10", "every area in turn")
        return page.get_by_test_id("by-area")

    expect(who_got_what("order")).to_contain_text(re.compile("uplands.*maps-1.*overseas.*maps-1"))
    expect(who_got_what("nearest")).to_contain_text(re.compile("uplands.*maps-1.*overseas.*maps-2"))
    hands.see(f"{NAME} name")
    hands.write("TTL", "30")
    expect(hands.inspector).to_contain_text("up to 30 s")
    hands.become("/names/0/answers/0/weight", 3)
    hands.become("/names/0/choose", "share")
    rates = {one["name"]: one["rps"] for one in state(client, hands)["balancers"]}
    assert rates == {"fells-front": pytest.approx(75), "coast-front": pytest.approx(25)}
    hands.become("/names/0/answers/1/areas", ["overseas"])
    expect(who_got_what("area")).to_contain_text(re.compile("uplands.*maps-1.*overseas.*maps-2"))
    hands.board()
    hands.find("maps-1 target")
    page.get_by_role("button", name="Break it in another way").click()
    page.get_by_role("menuitemcheckbox", name=re.compile("times slower")).click()
    expect(page.get_by_test_id("banner")).to_contain_text("maps-1 were 10 times slower")


def test_job_5_targets_that_are_registered_last(page, client, begin):
    page.goto("/start")
    page.get_by_role("radio", name="From nothing").click()
    page.get_by_label("What is it called?").fill("Vale maps")
    page.get_by_role("button", name="Open its board").click()
    panel = page.get_by_role("complementary", name="Add to the plan")
    expect(panel).to_be_visible()
    hands = begin(key=re.search("/plans/([^/]+)/board", page.url)[1])
    following = page.get_by_role("region", name="What comes next")
    expect(following).to_contain_text("no region yet")
    panel.get_by_role("button", name="Add", exact=True).click()
    expect(following).to_contain_text("no machines yet")
    hands.add("probe", "up")
    hands.add("target group", "maps")
    hands.add("pool", "maps")
    hands.add("firewall", "edge")
    hands.add("balancer", "front")
    hands.choose("Firewall", "edge")
    hands.add("area", "uplands")
    hands.add("name", "maps.beckwater.example")
    hands.add("client group", "walkers")
    expect(following).to_contain_text("no machines yet: nothing can answer")
    hands.add("fleet", "maps")
    expect(following).to_contain_text("no targets registered in maps yet: nothing can answer")
    following.get_by_role("button", name="open maps").click()
    hands.inspector.get_by_test_id("target-picker").get_by_role("checkbox").click()
    expect(page.get_by_test_id("board")).to_contain_text("2 × 33/s")
    page.locator("[data-part='berth:maps/maps-1']").click()
    page.get_by_role("button", name="As if added now").click()
    expect(page.get_by_test_id("banner")).to_contain_text("As if maps-1 was added now")
    expect(hands.inspector).to_contain_text("not yet proven")
    page.get_by_role("radio", name=re.compile("proven")).click()
    expect(hands.inspector).to_contain_text(re.compile("in use · 2 of 2 fronts"))


def test_job_6_fault_domains_a_wave_and_a_pool_left_empty(page, client, begin):
    hands = begin(instances=machines(3, "fells-1"), **of_machines("maps-1", "maps-2", "maps-3"))
    hands.find("Sheet: Machines")
    for number in (1, 2, 3):
        for column, text in (("Fault domain", f"rack-{number}"), ("Maintenance wave", str(number))):
            cell = page.get_by_label(f"{column} of maps-{number}")
            cell.fill(text)
            cell.press("Enter")
    hands.board()
    hands.add("drill", "wave-2")
    hands.become("/drills/0/steps/0/fail", part(maintenance_wave=2))
    hands.become("/drills/0/steps/1/restore", part(maintenance_wave=2))
    hands.drill()
    expect(page.get_by_role("region", name="What happened")).to_contain_text("maps-2 out")
    hands.find("Add: pool")
    panel = page.get_by_role("complementary", name="Add to the plan")
    panel.get_by_label("Name", exact=True).fill("spare")
    panel.get_by_role("button", name="Add", exact=True).last.click()
    hands.add("target group", "nobody")
    hands.see("web pool")
    hands.become("/pools/0/tiers/0/groups", {"nobody": 1})
    expect(page.get_by_role("region", name="What comes next")).to_contain_text("no targets registered in nobody yet")
    hands.trace()
    expect(page.get_by_test_id("ending")).to_contain_text("503")
    expect(page.get_by_test_id("ladder")).to_contain_text("no tier has a target in use")
    hands.board()
    hands.see("web pool")
    hands.become("/pools/0/tiers/0/groups", {"maps": 1})
    hands.add("balancer", "second-front")
    assert [one["listeners"][0]["otherwise"]["pool"] for one in hands.document()["balancers"]] == ["web", "spare"]
    assert [one["fault_domain"] for one in hands.document()["instances"]] == ["rack-1", "rack-2", "rack-3"]


def test_job_7_layer_exposure_probe_and_path_rules(page, client, begin):
    hands = begin(balancers=[], names=[], clients=[])
    hands.find("Add: probe")
    panel = page.get_by_role("complementary", name="Add to the plan")
    for label, text in (("Name", "gauges"), ("Every", "10"), ("Out after fails", "3")):
        panel.get_by_label(label, exact=True).fill(text)
        panel.get_by_label(label, exact=True).press("Enter")
    expect(panel.get_by_test_id("consequence")).to_contain_text("25–35 s")
    panel.get_by_role("button", name="Add", exact=True).last.click()
    hands.find("Add: balancer")
    panel.get_by_label("Layer", exact=True).select_option(label="4")
    expect(panel.get_by_label("Protocol", exact=True)).to_have_value("2")
    panel.get_by_label("Layer", exact=True).select_option(label="7")
    panel.get_by_label("Exposure", exact=True).select_option(label="internal")
    expect(page.get_by_test_id("board")).to_contain_text("internal · layer 7 · 3 fronts")
    panel.get_by_role("button", name="Add", exact=True).last.click()
    hands.see("tiles target group")
    hands.choose("Probe", "gauges")
    hands.find("http 80")
    hands.add_rule(
        "/balancers/0/listeners/0/rules/0", rule("tiles", {"path": ["/tiles/*"]}) | {"do": pool_action("web")}
    )
    hands.find("Index of the plan")
    expect(page.get_by_role("region", name="Listeners")).to_contain_text("http 80, 1 rule, otherwise pool web")
    expect(page.get_by_role("region", name="Probes")).to_contain_text("used by nobody")


def pool_action(pool):
    return {"pool": pool, "redirect": None, "respond": None}


def test_job_8_subnets_firewalls_and_a_standby_copy(page, client, begin):
    hands = begin(instances=machines(2, "fells-1", "fells-2"), **of_machines("maps-1", "maps-2"))
    hands.add("network", "net")
    for number, (name, zone) in enumerate((("app-1", "fells-1"), ("app-1b", "fells-1"), ("edge", None))):
        hands.add_to("/networks/0/subnets")
        hands.become(f"/networks/0/subnets/{number}/name", name)
        hands.become(f"/networks/0/subnets/{number}/zone", zone)
    assert [one["cidr"] for one in hands.document()["networks"][0]["subnets"]] == [f"10.40.{n}.0/24" for n in range(3)]
    hands.add("firewall", "app")
    hands.become("/firewalls/0/allow_in", [])
    for name in ("maps-1", "maps-2"):
        hands.see(f"{name} instance")
        hands.choose("Firewall", "app")
    hands.see("front balancer")
    hands.write("Bandwidth", "1000")
    expect(page.get_by_test_id("board")).to_contain_text("600 fail")
    hands.find("maps-1 target")
    page.keyboard.press("Escape")
    page.keyboard.press("t")
    page.get_by_test_id("ladder").get_by_role("button", name=re.compile("^Let app take")).click()
    hands.trace()
    expect(page.get_by_test_id("ending")).to_contain_text("200")
    assert state(client, hands)["failed_rps"] == 0
    hands.board()
    hands.add("balancer", "standby")
    hands.become("/balancers/1/zones", {"fells-2": None})
    hands.see(f"{NAME} name")
    hands.add_to("/names/0/answers")
    hands.become("/names/0/answers/1/balancer", "standby")
    assert [one["balancer"] for one in hands.document()["names"][0]["answers"]] == ["front", "standby"]


def test_what_is_pressed_stays_where_it_is_until_it_is_released(page, begin):
    """Findings stand above what can be pressed, and come when they come."""
    hands, late = begin(instances=machines(2, "fells-1", "fells-2"), **of_machines("maps-1", "maps-2")), Queue()
    expect(page.get_by_test_id("count-stops")).to_be_visible()

    def hold(asked):
        late.put(asked)

    page.route("**/findings?*", hold)
    with page.expect_request("**/findings?*"):
        hands.add("balancer", "standby")
    remove, found = (
        hands.inspector.get_by_role("button", name="Remove fells-1", exact=True),
        hands.inspector.get_by_text("nothing leads to standby"),
    )
    # What else is told of it has come: only the findings are awaited.
    for told in ("Offered", "Address"):
        expect(hands.inspector.get_by_text(told, exact=True)).to_be_visible()
    remove.hover()
    there = remove.bounding_box()
    page.mouse.down()
    with page.expect_event("requestfinished", lambda asked: "/findings?" in asked.url):
        late.get(timeout=WAIT_S).continue_()
    # Whatever is made of them has been drawn.
    page.evaluate("async () => { for (let n = 0; n < 20; n++) await new Promise(requestAnimationFrame); }")
    assert remove.bounding_box() == there
    page.mouse.up()
    expect(found).to_be_visible()
    expect(remove).to_have_count(0)


def test_job_9_three_protocols_and_an_overview_by_keys_alone(page, client, begin):
    hands = begin(Keys, instances=machines(2, "fells-1", "fells-2"), **of_machines("maps-1", "maps-2"))
    for name, protocol in (("feeds", "tcp"), ("gauges", "udp")):
        hands.add_kind("balancer")
        hands.fill("Name", name)
        hands.pick("Layer", "4")
        hands.pick("Protocol", protocol)
        hands.added()
    hands.find("Index of the plan")
    expect(page.get_by_role("region", name="Listeners")).to_contain_text("udp 80")
    spoken = {one["name"]: one["listeners"][0]["protocol"] for one in hands.document()["balancers"]}
    assert spoken == {"front": "https", "feeds": "tcp", "gauges": "udp"}
    hands.find("front balancer")
    hands.tab_to("Idle timeout")
    hands.press("Control+a")
    page.keyboard.type("5")
    hands.press("Enter", "Escape")
    expect(page.get_by_test_id("standing")).to_have_text("draft · 3 edits")
    hands.press("Control+z")
    expect(page.get_by_test_id("standing")).to_have_text("draft · 2 edits")
    assert hands.document()["balancers"][0]["idle_timeout_s"] == 60
    hands.add_kind("name")
    hands.fill("Name", "WWW.beckwater.example")
    hands.added()
    expect(page.get_by_role("button", name="2 problems")).to_be_visible()
    hands.tab_to("2 problems")
    hands.press("Enter")
    expect(hands.inspector).to_contain_text("WWW.beckwater.example")


def test_job_10_the_nearest_of_two_regions_behind_one_address(page, client, begin):
    hands = begin(**TWO)
    hands.find("Add: balancer")
    panel = page.get_by_role("complementary", name="Add to the plan")
    panel.get_by_label("Name", exact=True).fill("everywhere")
    panel.get_by_label("Address kind", exact=True).select_option(label="anycast")
    panel.locator("[data-path$='/zones']").get_by_label(re.compile("^add to")).select_option("coast-1")
    panel.get_by_role("button", name="Add", exact=True).last.click()
    hands.see(f"{NAME} name")
    hands.become("/names/0/answers/0/balancer", "everywhere")
    hands.inspector.get_by_role("button", name="Remove", exact=True).last.click()
    hands.see("ready probe")
    hands.choose("Protocol", "tcp")
    hands.trace(None, "10", "every area in turn")
    expect(page.get_by_test_id("by-area")).to_contain_text(re.compile("uplands.*maps-1.*overseas.*maps-2"))
    hands.board()
    hands.find("fells region")
    page.get_by_role("button", name="Break", exact=True).click()
    expect(page.get_by_test_id("banner")).to_contain_text("What if fells were lost")
    page.get_by_role("radio", name=re.compile("settled")).click()
    expect(page.locator("[data-zone=coast-1] [data-reading=zone-served]")).to_have_text("100/s")


def test_job_11_a_last_rule_is_no_fallback_but_a_name_may_have_one(page, client, begin):
    rules = [{"name": "last", "when": {"path": ["/maps/*"]}, "do": {"pool": "web"}}]
    plan = TWO | {"balancers": [front("fells", "fells-1"), front("coast", "coast-1")]}
    plan["balancers"][0]["listeners"][0] |= {"rules": rules, "otherwise": {"respond": {"status": 404}}}
    hands = begin(**plan)
    hands.trace(f"http://{NAME}/elsewhere")
    expect(page.get_by_test_id("ending")).to_contain_text("404")
    expect(page.get_by_test_id("ladder")).to_contain_text("otherwise")
    hands.board()
    hands.add("probe", "door")
    hands.become("/probes/1/port", 80)
    hands.become("/probes/1/path", "/maps/")
    hands.see(f"{NAME} name")
    hands.choose("Probe", "door")
    hands.become("/names/0/probed_from", ["uplands", "overseas"])
    hands.write("TTL", "20")
    hands.write("Standby share", "5 %")
    expect(page.get_by_test_id("standing")).to_have_text("draft · 7 edits")
    rates = {one["name"]: one["rps"] for one in state(client, hands)["balancers"]}
    assert rates == {"fells-front": pytest.approx(95), "coast-front": pytest.approx(5)}


def test_job_12_many_machines_in_one_go_and_a_balancer_before_a_balancer(page, client, begin):
    hands = begin(**of_machines(), instances=[])
    hands.find("Sheet: Machines")
    page.get_by_role("button", name="Paste rows").click()
    rows = "\n".join(f"maps-{n}\tfells-{n % 3 + 1}\thttp 9000\tblue" for n in range(1, 31))
    page.get_by_label("Rows", exact=True).fill(f"name\tzone\tserves\tcolour\n{rows}")
    expect(page.get_by_role("status").last).to_contain_text("not of this sheet, and left out: colour")
    page.get_by_role("button", name="Take 30 rows").click()
    expect(page.get_by_test_id("row-count")).to_have_text("30 rows")
    hands.board()
    hands.see("maps target group")
    hands.inspector.get_by_label("Names that fit").fill("maps-*")
    hands.inspector.get_by_role("button", name="Take all 30").click()
    hands.inspector.get_by_label("Names that fit").fill("")
    hands.write("Port", "9000")
    hands.become("/target_groups/0/affinity/by", "cookie")
    expect(page.get_by_test_id("board")).to_contain_text("10 × 20/s")
    hands.add("drill", "crash")
    for step, kind in enumerate(("fail", "restore")):
        hands.become(f"/drills/0/steps/{step}/{kind}", part(process="maps-7"))
    hands.drill()
    expect(page.get_by_test_id("strip").first).to_have_attribute("data-target", "maps-7")
    expect(page.get_by_test_id("strip").first).to_contain_text("blind · 20–30 possible")
    hands.board()
    hands.add("target group", "onward")
    hands.add_to("/target_groups/1/targets")
    target = dict.fromkeys(("instance", "fleet", "tagged", "address", "host", "port")) | {
        "balancer": "front",
        "weight": 1,
    }
    hands.become("/target_groups/1/targets/0", target)
    hands.add("pool", "onward")
    hands.add("balancer", "outer")
    assert state(client, hands)["failed_rps"] == 0


def part(**given):
    """A part as the plan keeps it: every field, most of them empty."""
    fields = "instance process port page status slow factor zone region front link firewall rule fault_domain"
    return dict.fromkeys([*fields.split(), "maintenance_wave", "address", "host"]) | given


def test_job_13_an_internal_address_and_the_same_from_a_script_by_keys_alone(page, client, begin):
    hands = begin(Keys, balancers=[], names=[], clients=[])
    hands.add_kind("probe")
    hands.fill("Name", "port")
    hands.pick("Protocol", "tcp")
    hands.added()
    hands.find("tiles target group")
    hands.pick("Probe", "port")
    hands.add_kind("balancer")
    hands.fill("Name", "inner")
    hands.pick("Exposure", "internal")
    hands.added()
    expect(page.get_by_test_id("board")).to_contain_text("internal · layer 7")
    drawn = hands.document()
    other = client.post("/api/plans", content=plan_text(plan_data(balancers=[], names=[], clients=[]))).json()
    script = [
        {"op": "add", "path": "/probes/-", "value": drawn["probes"][1]},
        {"op": "replace", "path": "/target_groups/0/probe", "value": "port"},
        {"op": "add", "path": "/balancers/-", "value": drawn["balancers"][0]},
    ]
    told = client.patch(f"/api/plans/{other['key']}", json=script, headers={"if-match": "1"})
    assert told.json()["document"] == drawn
    assert (drawn["probes"][1]["protocol"], drawn["probes"][1]["interval_s"]) == ("tcp", 10)


def test_job_14_an_address_that_survives_any_zone_by_keys_alone(page, client, begin):
    hands = begin(Keys)
    hands.add_kind("probe")
    hands.fill("Name", "port")
    hands.pick("Protocol", "tcp")
    hands.fill("Every", "5")
    hands.fill("Give up after", "2")
    hands.fill("Out after fails", "2")
    expect(page.get_by_test_id("consequence")).to_contain_text("7–12 s")
    hands.added()
    hands.find("tiles target group")
    hands.pick("Probe", "port")
    hands.find("fells-2 zone")
    hands.press("x")
    expect(page.get_by_test_id("banner")).to_contain_text("What if fells-2 were lost")
    expect(page.get_by_role("radio", name=re.compile("noticed"))).to_contain_text("12 s at worst")
    assert hands.document()["target_groups"][0]["probe"] == "port"


def test_job_15_an_address_a_zone_before_a_fleet_that_scales(page, client, begin):
    hands = begin()
    hands.see("front balancer")
    hands.choose("Address kind", "per zone")
    hands.see(f"{NAME} name")
    hands.choose("Chosen by", "all")
    expect(hands.inspector).to_contain_text("up to 60 s")
    hands.see("tiles fleet")
    hands.inspector.locator("[data-path='/fleets/0/scale']").get_by_role("button", name=re.compile("^add")).click()
    hands.until_there("/fleets/0/scale")
    hands.become("/fleets/0/scale/max", 12)
    scale = hands.document()["fleets"][0]["scale"]
    assert (scale["min"], scale["max"], scale["target_utilisation"]) == (6, 12, 0.6)
    hands.find("front fells-2")
    copied = hands.inspector.get_by_role("button", name=re.compile("^Copy "))
    expect(copied).to_have_count(1)
    assert re.search("203.0.113.", copied.get_attribute("aria-label"))
    hands.add("drill", "loss")
    hands.drill()
    expect(page.get_by_text("Old answers")).to_be_visible()


def test_job_16_the_probes_page_is_renamed_on_one_machine_by_keys_alone(page, client, begin):
    crash = {"name": "renamed", "lasts_s": 300, "steps": [{"at_s": 60, "fail": {"process": "tiles-1"}}]}
    hands = begin(Keys, drills=[crash], firewalls=[{"name": "app", "allow_in": [{"ports": ["8080"], "from": "any"}]}])
    hands.find("renamed")
    expect(page.get_by_test_id("summary")).to_be_visible()
    hands.tab_to("tiles-1 lost: at second")
    hands.press("Enter")
    expect(page.get_by_test_id("step")).to_be_visible()
    hands.tab_to("What it is")
    hands.pick("What it is", "Page")
    expect(page.get_by_test_id("step").get_by_label("Page")).to_be_visible()
    hands.fill("Page", "/ready")
    expect(page.get_by_role("region", name="What happened")).to_contain_text("tiles-1 … tiles-6: 6 targets out")
    step = hands.document()["drills"][0]["steps"][0]["fail"]
    assert (step["page"], step["status"]) == ("/ready", 503)
    hands.find("tiles fleet")
    hands.pick("Firewall", "app")
    hands.find("app firewall")
    hands.fill("Ports", "9999")
    hands.press("Escape")
    expect(page.get_by_test_id("board")).to_contain_text("600 fail")


def test_job_17_what_needs_a_replacement_and_a_balancer_that_goes(page, client, begin):
    hands = begin(platform={"replace_only": ["balancer.exposure", "target_group.protocol"]})
    hands.see("front balancer")
    hands.choose("Exposure", "internal")
    hands.write("Idle timeout", "120")
    page.get_by_test_id("standing").click()
    changes = page.get_by_test_id("changes").locator("li")
    expect(changes.filter(has_text="exposure")).to_contain_text("replace")
    expect(changes.filter(has_text="idle")).to_contain_text("in place")
    page.get_by_role("button", name="Close").click()
    hands.inspector.get_by_role("button", name="Delete", exact=True).click()
    hands.inspector.get_by_role("button", name="Delete, and take them along").click()
    expect(page.get_by_role("region", name="What comes next")).to_contain_text("no balancer yet")
    document = hands.document()
    assert (document["balancers"], len(document["target_groups"][0]["targets"])) == ([], 1)


def test_job_18_weights_limits_and_a_standby_zone(page, client, begin):
    hands = begin(
        instances=machines(3, "fells-1", "fells-2", "fells-3"), **of_machines("maps-1", "maps-2"),
        platform={"limits": {"listeners_per_balancer": 2}},
    )  # fmt: skip
    hands.find("Sheet: Targets")
    for number, weight in ((1, "100"), (2, "50")):
        cell = page.get_by_label(f"Weight of maps maps-{number}")
        cell.fill(weight)
        cell.press("Enter")
    expect(page.get_by_label("Weight of maps maps-2")).to_have_value("50")
    hands.board()
    expect(page.get_by_test_id("board")).to_contain_text("1 × 400/s")
    assert [berth(client, hands, f"maps-{n}")["share"] for n in (1, 2)] == [pytest.approx(2 / 3), pytest.approx(1 / 3)]
    hands.add("target group", "standby")
    assert [one["instance"] for one in hands.document()["target_groups"][1]["targets"]] == ["maps-3"]
    hands.see("web pool")
    hands.add_to("/pools/0/tiers")
    expect(page.get_by_test_id("board")).to_contain_text("standing by")


def test_job_19_the_least_busy_target_and_a_fleet_out_and_in(page, client, begin):
    hands = begin()
    hands.see("tiles target group")
    hands.choose("Targets by", "least connections")
    hands.see("tiles fleet")
    hands.write("Count", "9")
    expect(page.get_by_test_id("board")).to_contain_text("3 × 67/s")
    hands.write("Count", "6")
    expect(page.get_by_test_id("board")).to_contain_text("2 × 100/s")
    hands.inspector.locator("[data-path='/fleets/0/scale']").get_by_role("button", name=re.compile("^add")).click()
    hands.add("drill", "terminated")
    for step, kind in enumerate(("fail", "restore")):
        hands.become(f"/drills/0/steps/{step}/{kind}", part(instance="tiles-3"))
    hands.drill()
    expect(page.get_by_role("region", name="What happened")).to_contain_text("tiles-3 out")
    assert hands.document()["fleets"][0]["scale"]["min"] == 6


def test_job_20_a_firewall_knows_only_the_balancer_but_sees_clients_by_keys_alone(page, client, begin):
    wall = {"name": "app", "allow_in": [{"ports": ["8080"], "from": "balancer:feeds"}]}
    listener = {"name": "tcp", "protocol": "tcp", "port": 443, "otherwise": {"pool": "web"}}
    feeds = {"name": "feeds", "layer": 4, "zones": {"fells-1": None}, "listeners": [listener]}
    instances = [one | {"firewall": "app"} for one in machines(2, "fells-1", "fells-2")]
    names = [{"name": NAME, "answers": [{"balancer": "feeds"}]}]
    plan = of_machines("maps-1", "maps-2", balance="source-hash", protocol="tcp")
    hands = begin(Keys, instances=instances, firewalls=[wall], balancers=[feeds], names=names, **plan)
    expect(page.get_by_test_id("board")).to_contain_text("600 fail")
    hands.find("Trace a request")
    ladder = page.get_by_test_id("ladder")
    expect(ladder.locator("[data-hop=firewall][data-ok=false]")).to_be_visible()
    hands.tab_to(ladder.get_by_role("button", name=re.compile("^Let app take")).inner_text())
    hands.press("Enter")
    expect(page.get_by_test_id("ending")).not_to_contain_text("time-out")
    assert state(client, hands)["failed_rps"] == pytest.approx(0, abs=0.1)
    expect(page.get_by_role("region", name="Questions")).to_contain_text("refreshing always land")
