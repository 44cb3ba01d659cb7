"""Draws the figure of docs/engine.md from the engine: one target of six falls silent."""

from pathlib import Path
from typing import Any

from northgate.engine.drill.run import run_drill
from northgate.engine.network.compile import compile_network
from northgate.plan import plan_from_data

FIGURE = Path(__file__).parent / "figures" / "silent.svg"
WIDTH, HEIGHT, LEFT, FOOT, MOST = 640, 220, 44, 24, 110.0
FROM_S, TO_S = 50, 110
CURVES = [
    ("nothing held", "#1b2733", "", {}, {}, {}),
    ("sessions", "#b67a17", "7 4", {}, {"affinity": {"by": "cookie"}}, {}),
    ("connections", "#1f5a86", "", {"layer": 4}, {}, {}),
    ("one repeat", "#2f7a59", "", {}, {}, {"retries": 1}),
]


def failing(balancer: dict[str, Any], group: dict[str, Any], client: dict[str, Any]) -> list[tuple[float, float]]:
    """Failed calls per second at each moment."""
    zones = dict.fromkeys(["fells-1", "fells-2", "fells-3"])
    protocol = "tls" if balancer else "https"
    listener = {"name": "front", "protocol": protocol, "port": 443, "otherwise": {"pool": "web"}}
    instance = {"capacity_rps": 1000, "service_ms": 5, "serves": [{"port": 8080, "protocol": "http"}]}
    steps = [{"at_s": 60, "fail": {"instance": "tiles-1"}}]
    call = {"url": "https://www.beckwater.example/"}
    plan = plan_from_data(
        {
            "northgate": 1,
            "name": "figure",
            "regions": [{"name": "fells", "zones": list(zones)}],
            "fleets": [{"name": "tiles", "zones": zones, "count": 6, "instance": instance}],
            "probes": [{"name": "ready", "interval_s": 10, "timeout_s": 5, "unhealthy_after": 3}],
            "target_groups": [
                {"name": "tiles", "port": 8080, "probe": "ready", "targets": [{"fleet": "tiles"}], **group}
            ],
            "pools": [{"name": "web", "tiers": [{"groups": {"tiles": 1}}]}],
            "balancers": [{"name": "front", "zones": zones, "listeners": [listener], **balancer}],
            "names": [{"name": "www.beckwater.example", "answers": [{"balancer": "front"}]}],
            "clients": [{"name": "walkers", "rps": 600, "sources": 3000, "calls": [call], **client}],
            "drills": [{"name": "silent", "lasts_s": TO_S + 1, "phases": "worst", "steps": steps}],
        }
    )
    run = run_drill(compile_network(plan), plan.drills[0])
    seconds = [FROM_S + number / 5 for number in range((TO_S - FROM_S) * 5 + 1)]
    return [(second, float(run.flow_at(second).cause_rps.sum())) for second in seconds]


def point(second: float, rate: float) -> str:
    """A point of the drawing."""
    across = LEFT + (second - FROM_S) / (TO_S - FROM_S) * (WIDTH - LEFT - 130)
    return f"{across:.1f},{HEIGHT - FOOT - rate / MOST * (HEIGHT - FOOT - 12):.1f}"


def drawing() -> str:
    """The whole figure as SVG."""
    parts = [f'<rect width="{WIDTH}" height="{HEIGHT}" fill="#fffdf8"/>']
    for rate in (0, 50, 100):
        x, y = point(FROM_S, rate).split(",")
        parts.append(f'<path d="M{x},{y}H{WIDTH - 130}" stroke="#dcd5c5"/><text x="6" y="{y}">{rate}/s</text>')
    parts += [
        f'<text x="{point(second, 0).split(",")[0]}" y="{HEIGHT - 6}">{second} s</text>'
        for second in range(FROM_S, TO_S + 1, 10)
    ]
    for number, (name, tone, dashes, balancer, group, client) in enumerate(CURVES):
        line = " ".join(point(*one) for one in failing(balancer, group, client))
        style = f'stroke="{tone}" stroke-width="2" stroke-dasharray="{dashes}" fill="none"'
        parts.append(f'<polyline points="{line}" {style}/>')
        top = 30 + number * 20
        parts.append(f'<path d="M{WIDTH - 120},{top - 4}h18" {style}/>')
        parts.append(f'<text x="{WIDTH - 96}" y="{top}">{name}</text>')
    head = f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {WIDTH} {HEIGHT}" font-family="sans-serif"'
    return f'{head} font-size="11" fill="#1b2733">{"".join(parts)}</svg>\n'


if __name__ == "__main__":
    FIGURE.parent.mkdir(exist_ok=True)
    FIGURE.write_text(drawing(), encoding="utf-8")
