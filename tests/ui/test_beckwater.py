"""Beckwater drawn from nothing: machines pasted, a plan proposed, the rest typed and clicked. As a rule that is what
stands in the fells and serves the public; NORTHGATE_EXPLORE=1 draws all of it."""

import json
import re

import pytest
from playwright.sync_api import expect

from northgate.plan import plan_from_data, plan_from_text
from tests.plan.test_reading import EXAMPLE
from tests.support.exploring import EXPLORING
from tests.ui.drawing import Drawing, visit

# Long, and on its own server: it runs beside the other tests of the interface.
pytestmark = pytest.mark.xdist_group("drawing")

DEMO = plan_from_text(EXAMPLE.read_text())
# The order in which the machines are pasted: by group, as the demo lists its groups. The trial group has a port of its
# own at first, so that it is proposed as a group of its own.
PORTS = {"tiles": 8080, "tiles-next": 8082, "alerts-api": 8081, "holding-page": 8090}

# What fails in each drill.
CAUSES = {
    "lose-fells-2": "timed_out", "tiles-8-crashes": "refused", "alerts-cut-off": "blocked", "lose-fells": "dead_front",
}  # fmt: skip


def by_file():
    """The demo as one would write it by hand without fleets: each machine on a line of its own."""
    data = DEMO.model_dump(mode="json", by_alias=True)
    pages = {"/": 200}
    fleets = {fleet.name: fleet.instance_names() for fleet in DEMO.fleets}
    machines = {machine.name: machine for machine in DEMO.machines}
    data["name"], data["fleets"] = "beckwater-flood-watch", []
    order = []
    for group in data["target_groups"]:
        names = [n for one in group["targets"] for n in (fleets[one["fleet"]] if one["fleet"] else [one["instance"]])]
        names = [name for name in names if EXPLORING or machines[name].zone.startswith("fells")]
        order += names
        group["targets"] = [{"instance": name} for name in names]
    data["instances"] = [machines[name].model_dump(mode="json") for name in order]
    for machine in data["instances"]:
        machine["serves"] = [one | {"pages": pages} for one in machine["serves"]]
    if not EXPLORING:
        leave_the_coast_out(data)
    return plan_from_data(data).model_dump(mode="json", by_alias=True)


def leave_the_coast_out(data):
    """Only what stands in the fells and serves the public is left of a plan, and the first and the third drill."""
    left_out = {
        "regions": ["coast"], "areas": ["overseas"], "networks": ["coast-net"], "pools": ["web-coast"],
        "balancers": ["coast-front"], "names": ["gauges.beckwater.example"], "clients": ["overseas-desk", "walkers"],
        "drills": ["tiles-8-crashes", "lose-fells"],
    }  # fmt: skip
    for several, names in left_out.items():
        data[several] = [one for one in data[several] if one["name"] not in names]
    for area in data["areas"]:
        del area["latency_ms"]["coast"]
    (network,) = data["networks"]
    network["peers"] = []
    (name,) = data["names"]
    name["answers"] = name["answers"][:1]
    name["probed_from"].remove("overseas")
    for firewall in data["firewalls"]:
        firewall["allow_in"] = [rule for rule in firewall["allow_in"] if rule["from"] != "balancer:coast-front"]


def flat(readings):
    """Readings without tables inside."""
    tables = {name: table for name, table in readings.items() if isinstance(table, dict)}
    plain = {name: value for name, value in readings.items() if name not in tables}
    return plain | {f"{name} {key}": value for name, table in tables.items() for key, value in table.items()}


def start(page, plan):
    """Pastes the machines and takes what is proposed: the key of the plan."""
    page.goto("/start")
    page.get_by_label("What is it called?").fill("Beckwater flood watch")
    lines = [f"{region['name']}: {', '.join(region['zones'])}" for region in plan["regions"]]
    page.get_by_label("Regions and their zones").fill("\n".join(lines))
    port = {one["instance"]: PORTS[group["name"]] for group in plan["target_groups"] for one in group["targets"]}
    rows = [
        [one["name"], one["zone"], port[one["name"]], one["capacity_rps"], one["service_ms"]]
        for one in plan["instances"]
    ]
    table = [["name", "zone", "port", "capacity_rps", "service_ms"], *rows]
    page.get_by_label("Machines, pasted").fill("\n".join("\t".join(map(str, row)) for row in table))
    page.get_by_role("button", name="Propose the rest").click()
    expect(page.get_by_role("region", name="The proposal")).to_contain_text(
        f"{len(plan['instances'])} in {sum(len(region['zones']) for region in plan['regions'])} zones"
    )
    page.get_by_role("button", name="Take it and open the board").click()
    expect(page).to_have_url(re.compile("/plans/beckwater-flood-watch"))
    return re.search("/plans/([^/]+)/board", page.url)[1]


def paste(page, key, sheet, columns, objects, button):
    """Pastes rows into a sheet, and takes them."""
    visit(page, f"/plans/{key}/sheets/{sheet}")
    page.get_by_role("button", name="Paste rows").click()
    rows = [[str(one[column]) if one[column] is not None else "" for column in columns] for one in objects]
    page.get_by_label("Rows", exact=True).fill("\n".join("\t".join(row) for row in [columns, *rows]))
    page.get_by_role("button", name=button).click()
    expect(page.get_by_test_id("row-count")).to_contain_text("rows")
    expect(page.get_by_test_id("paste-preview")).to_have_count(0)


def remove_rows(page, key, sheet, count):
    """Takes all rows out of a sheet."""
    visit(page, f"/plans/{key}/sheets/{sheet}")
    page.get_by_label("Choose all rows").check()
    page.get_by_role("button", name=f"Delete {count}").click()
    expect(page.get_by_test_id("row-count")).to_have_text("0 rows")


def draw(drawing, kind, plan_list, words, proposed=()):
    """Renames what is proposed, adds what is missing, and makes each object what it is to be."""
    for before, after in proposed:
        drawing.rename(f"{kind}:{before}", after)
    for index, one in enumerate(plan_list):
        place = {"group": "target_groups"}.get(kind, f"{kind}s")
        if index < len(proposed):
            drawing.open(f"{kind}:{one['name']}")
        else:
            drawing.add(words, one["name"])
        drawing.become(f"/{place}/{index}", one)


def draw_machines(drawing, plan):
    """What the first paste did not say of the machines comes with a second one, into their sheet."""
    rows = [one | {"serves": f"http {one['serves'][0]['port']}"} for one in plan["instances"]]
    columns = ["name", "subnet", "address", "queue_s", "fault_domain", "firewall", "serves"]
    paste(drawing.page, drawing.key, "machines", columns, rows, f"Take {len(rows)} rows")


def draw_balancers(drawing, plan):
    """Balancers without their listeners, then each listener on its own."""
    for index, one in enumerate(plan["balancers"]):
        drawing.open(f"balancer:{one['name']}")
        for field, value in one.items():
            if field != "listeners":
                drawing.become(f"/balancers/{index}/{field}", value)
        for number, listener in enumerate(one["listeners"]):
            if number:
                drawing.add("listener", listener["name"], Balancer=one["name"])
            else:
                drawing.open(f"listener:{one['name']}/{listener['name']}")
            place = f"/balancers/{index}/listeners/{number}"
            for field, value in listener.items():
                if field != "rules":
                    drawing.become(f"{place}/{field}", value)
            for rule in range(len(listener["rules"])):
                drawing.add_rule(f"{place}/rules/{rule}", listener["rules"][rule])


def test_beckwater_from_nothing_to_its_drills_equals_the_same_plan_by_file(page, client):
    """The demo plan, drawn: its drills are those of the file, and so is what is exported."""
    plan = by_file()
    key = start(page, plan)
    drawing = Drawing(page, key, lambda: client.get(f"/api/plans/{key}").json())
    # Without a drill nothing is run again after each edit; those of the demo come last.
    drawing.remove("drill:lose-fells-1")
    draw(drawing, "area", plan["areas"], "area", [("everywhere", "uplands")])
    draw(drawing, "network", plan["networks"], "network")
    draw(drawing, "firewall", plan["firewalls"], "firewall")
    draw_machines(drawing, plan)
    draw(drawing, "probe", plan["probes"], "probe", [("alive", "ready")])
    groups = [(f"app-{port}", name) for name, port in PORTS.items()]
    draw(drawing, "group", plan["target_groups"], "target group", groups)
    # Each region's balancer has one for every pool but the first.
    remove_rows(page, key, "rules", (len(PORTS) - 1) * len(plan["regions"]))
    proposed = [f"app-{port}" for port in PORTS.values()]
    for needless in proposed[len(plan["pools"]) :]:
        drawing.remove(f"pool:{needless}")
    pools = zip(proposed, (one["name"] for one in plan["pools"]), strict=False)
    draw(drawing, "pool", plan["pools"], "pool", list(pools))
    draw(drawing, "certificate", plan["certificates"], "certificate", [("public", "public")])
    draw_balancers(drawing, plan)
    draw(drawing, "name", plan["names"], "name", [("www.beckwater.example", "www.beckwater.example")])
    draw(drawing, "client", plan["clients"], "client group", [("everybody", plan["clients"][0]["name"])])
    draw(drawing, "drill", plan["drills"], "drill")
    drawing.open("")
    drawing.become("/notes", plan["notes"])
    page.get_by_text("What the platform allows").click()
    drawing.become("/platform", plan["platform"])
    file_key = client.post("/api/plans", content=json.dumps(plan)).json()["key"]
    assert {drill["name"] for drill in plan["drills"]} <= CAUSES.keys()
    for drill in (one["name"] for one in plan["drills"]):
        drawn, read = (client.get(f"/api/plans/{one}/drills/{drill}").json() for one in (key, file_key))
        assert drawn == read
        assert drawn["readings"]["failed_by_cause"][CAUSES[drill]] > 0
        if EXPLORING:
            demo = client.get(f"/api/plans/beckwater/drills/{drill}").json()
            assert flat(drawn["readings"]) == pytest.approx(flat(demo["readings"])), (
                "the demo orders its machines otherwise"
            )
    exported = client.get(f"/api/plans/{key}/file").text
    assert plan_from_text(exported).model_dump(mode="json", by_alias=True) == plan
