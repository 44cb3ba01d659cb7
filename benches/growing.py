"""How the time of a drill grows with each size of it, as a table and as the figure of docs/engine.md."""

import gc
import time
from collections.abc import Callable, Iterator
from math import log10
from pathlib import Path
from typing import Any

from northgate.engine.drill import run_drill
from northgate.engine.network import compile_network
from northgate.plan import plan_from_data

FIGURE = Path(__file__).parents[1] / "docs" / "figures" / "growth.svg"
WIDTH, HEIGHT, LEFT, RIGHT, FOOT = 640, 300, 56, 150, 40
# One size at a time is made up to a hundred times as large; the others stay as they are here.
USUAL = {"targets": 300, "zones": 3, "groups": 1, "steps": 1, "sources": 0, "seconds": 60}
SIZES: dict[str, tuple[tuple[int, ...], str]] = {
    "targets": ((300, 3000, 30_000), "#1b2733"),
    "zones": ((3, 9, 30), "#b67a17"),
    "groups": ((1, 10, 100), "#1f5a86"),
    "steps": ((1, 10, 100), "#2f7a59"),
    "sources": ((1000, 10_000, 100_000), "#8a3b2e"),
    "seconds": ((60, 600, 6000), "#6b5b95"),
}
Points = dict[str, list[tuple[int, int, float]]]


def plan_of(targets: int, zones: int, groups: int, steps: int, sources: int, seconds: int) -> dict[str, Any]:
    """A plan with a drill in which zones are lost and return in turn, every step within the first minute; with sources
    these decide which target they go to."""
    names = [f"zone-{number}" for number in range(zones)]
    instance = {"capacity_rps": 100, "service_ms": 10, "serves": [{"port": 8080, "protocol": "http"}]}
    kinds = [f"tiles-{number}" for number in range(groups)]
    rules = [{"name": kind, "when": {"path": [f"/{kind}/*"]}, "do": {"pool": kind}} for kind in kinds[1:]]
    listener = {"name": "http", "protocol": "http", "port": 80, "rules": rules, "otherwise": {"pool": kinds[0]}}
    calls = [{"url": f"http://www.beckwater.example/{kind}/x"} for kind in kinds]
    client = {"name": "walkers", "rps": targets * 40, "calls": calls, "cidr": "10.0.0.0/8"}
    turns = [
        {"at_s": 10 + 40 * number / steps, ("restore" if number % 2 else "fail"): {"zone": names[number // 2 % zones]}}
        for number in range(steps)
    ]
    return {
        "northgate": 1,
        "name": "growth",
        "regions": [{"name": "fells", "zones": names}],
        "fleets": [
            {"name": kind, "zones": dict.fromkeys(names), "count": targets // groups, "instance": instance}
            for kind in kinds
        ],
        "probes": [{"name": "ready"}],
        "target_groups": [
            {"name": kind, "port": 8080, "probe": "ready", "targets": [{"fleet": kind}]}
            | ({"balance": "source-hash"} if sources else {})
            for kind in kinds
        ],
        "pools": [{"name": kind, "tiers": [{"groups": {kind: 1}}]} for kind in kinds],
        "balancers": [{"name": "front", "zones": dict.fromkeys(names), "listeners": [listener]}],
        "names": [{"name": "www.beckwater.example", "answers": [{"balancer": "front"}]}],
        "clients": [client | ({"sources": sources} if sources else {})],
        "drills": [{"name": "loss", "lasts_s": max(seconds, 60), "phases": "spread", "steps": turns}],
    }


def measured(row: Callable[[str, float], None]) -> Points:
    """Per size each value with the events and the processor time (ms) of the drill, told as they come."""
    made: Points = {}
    for size, (values, _) in SIZES.items():
        for value in values:
            plan = plan_from_data(plan_of(**{**USUAL, size: value}))
            network = compile_network(plan)
            events = len(run_drill(network, plan.drills[0]).keyframes)
            # Else what larger plans before have left behind would be cleared away meanwhile.
            gc.collect()
            started = time.process_time()
            run_drill(network, plan.drills[0])
            taken_ms = (time.process_time() - started) * 1000
            made.setdefault(size, []).append((value, events, taken_ms))
            row(f"spread: {value:>7,} {size}, {events} events", taken_ms)
    return made


def draw(points: Points) -> None:
    """The figure: both axes by powers of ten, so that what grows as its size does rises as the dashed line."""
    FIGURE.write_text(_drawing(points), encoding="utf-8")


def _drawing(points: Points) -> str:
    most_ms = max(taken for some in points.values() for _, _, taken in some)
    powers = [10**power for power in range(6) if 10**power <= most_ms * 10]

    def place(times: float, taken_ms: float) -> tuple[float, float]:
        across = LEFT + log10(times) / 2 * (WIDTH - LEFT - RIGHT)
        return across, HEIGHT - FOOT - log10(max(taken_ms, 1)) / log10(powers[-1]) * (HEIGHT - FOOT - 16)

    parts = [f'<rect width="{WIDTH}" height="{HEIGHT}" fill="#fffdf8"/>']
    for ms in powers:
        _, y = place(1, ms)
        told = f"{ms} ms" if ms < 1000 else f"{ms // 1000} s"
        parts.append(
            f'<path d="M{LEFT},{y:.1f}H{WIDTH - RIGHT}" stroke="#dcd5c5"/><text x="6" y="{y + 4:.1f}">{told}</text>'
        )
    for times in (1, 10, 100):
        x, _ = place(times, 1)
        parts.append(f'<text x="{x:.1f}" y="{HEIGHT - 22}" text-anchor="middle">{times} ×</text>')
    (x0, y0), (x1, y1) = place(1, 10), place(100, 1000)
    parts.append(f'<path d="M{x0:.1f},{y0:.1f}L{x1:.1f},{y1:.1f}" stroke="#8b8577" stroke-dasharray="3 4"/>')
    parts += _curves(points, place)
    parts.append(f'<text x="{LEFT}" y="{HEIGHT - 6}">one size of the drill made so many times as large</text>')
    head = f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {WIDTH} {HEIGHT}" font-family="sans-serif"'
    return f'{head} font-size="11" fill="#1b2733">{"".join(parts)}</svg>\n'


def _curves(points: Points, place: Callable[[float, float], tuple[float, float]]) -> Iterator[str]:
    ends = {size: place(100, some[-1][2])[1] for size, some in points.items()}
    below = -1e9
    for size in sorted(points, key=lambda one: ends[one]):
        tone, some = SIZES[size][1], points[size]
        line = " ".join("{:.1f},{:.1f}".format(*place(value / some[0][0], taken)) for value, _, taken in some)
        yield f'<polyline points="{line}" stroke="{tone}" stroke-width="2" fill="none"/>'
        below = max(ends[size] + 4, below + 14)
        yield f'<text x="{WIDTH - RIGHT + 8}" y="{below:.1f}" fill="{tone}">{some[-1][0]:,} {size}</text>'
