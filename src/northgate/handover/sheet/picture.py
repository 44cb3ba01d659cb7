"""The board as a picture (SVG), drawn without a browser: zones across, the way of a request down."""

from html import escape

from northgate.engine.network import Network
from northgate.engine.reports import BoardState
from northgate.plan.models.balancers import Balancer

LEFT, COLUMN, GAP, LANE, ROW = 150, 190, 12, 62, 58
INK, SOFT, LINE, NORTH, MOSS, PANEL = "#1B2733", "#5B6671", "#DCD5C5", "#1F5A86", "#2F7A59", "#FFFDF8"


def board_picture(network: Network, state: BoardState) -> str:
    """Clients, names, balancers with their fronts, and every zone with the targets of each group."""
    plan = network.plan
    zones = [zone.name for zone in state.zones]
    left = {zone: float(LEFT + at * (COLUMN + GAP)) for at, zone in enumerate(zones)}
    width = LEFT + len(zones) * (COLUMN + GAP)
    cells_top = 3 * LANE + 52
    height = cells_top + 34 + len(plan.target_groups) * ROW + 12
    parts = [
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {width} {height}" role="img" '
        f'aria-label="The board of {escape(plan.title or plan.name, quote=True)}" '
        'font-family="Public Sans, sans-serif" font-size="12">'
    ]
    across = width - LEFT - GAP
    lanes = (
        ("Clients", [(one.name, f"{one.rps:,.0f}/s") for one in state.clients]),
        ("Names", [(one.name, f"{one.rps:,.0f}/s") for one in state.names]),
    )
    for lane, (title, boxes) in enumerate(lanes):
        parts.append(_label(title, lane * LANE + 26))
        each = across / max(len(boxes), 1)
        for at, (name, said) in enumerate(boxes):
            parts.append(_box(LEFT + at * each, lane * LANE + 8, each - GAP, 36, name, said, LINE))
    parts.append(_label("Balancers", 2 * LANE + 26))
    for balancer in plan.balancers:
        parts += _balancer(balancer, left, state)
    for zone in state.zones:
        x = left[zone.name]
        parts.append(_rect(x, cells_top, COLUMN, height - cells_top - 6, LINE))
        parts.append(_text(x + 10, cells_top + 20, zone.name, INK, bold=True))
        parts.append(_text(x + COLUMN - 10, cells_top + 20, f"{zone.served_rps:,.0f}/s", NORTH, end=True))
    for row, group in enumerate(plan.target_groups):
        y = cells_top + 34 + row * ROW
        parts.append(_label(group.name, y + 22))
        for cell in state.cells:
            if cell.group == group.name and cell.zone in left:
                x = left[cell.zone]
                parts += [_berth(x + 10 + at * 15, y + 8) for at in range(min(cell.targets, 11))]
                said = f"{cell.in_use}/{cell.targets} · {cell.mean_rps:,.0f}/s each · {cell.peak_utilisation:.0%}"
                parts.append(_text(x + 10, y + 40, said, SOFT))
    return "\n".join([*parts, "</svg>"])


def _balancer(balancer: Balancer, left: dict[str, float], state: BoardState) -> list[str]:
    known = [zone for zone in balancer.zones if zone in left]
    if not known:
        return []
    rates = next((one for one in state.balancers if one.name == balancer.name), None)
    first, last = min(left[zone] for zone in known), max(left[zone] for zone in known) + COLUMN
    ports = ", ".join(f"{one.protocol} {one.port}" for one in balancer.listeners)
    made = [
        _box(first, 2 * LANE + 8, last - first, 44, balancer.name, f"{rates.rps if rates else 0:,.0f}/s", INK),
        _text(first + 10, 2 * LANE + 44, f"layer {balancer.layer} · {ports}", SOFT),
    ]
    for front in rates.fronts if rates else []:
        if front.zone in left:
            x = left[front.zone] + COLUMN / 2 - 34
            made.append(_rect(x, 3 * LANE + 4, 68, 20, NORTH))
            made.append(_text(x + 34, 3 * LANE + 18, "front" if front.in_address else "stands by", NORTH, middle=True))
    return made


def _label(words: str, y: float) -> str:
    return _text(8, y, words, INK, bold=True)


def _box(x: float, y: float, width: float, height: float, name: str, said: str, line: str) -> str:
    room = max(int((width - 80) / 6.6), 4)
    short = name if len(name) <= room else name[: room - 1] + "…"
    return (
        _rect(x, y, width, height, line)
        + _text(x + 10, y + 20, short, INK, bold=True)
        + _text(x + width - 10, y + 20, said, NORTH, end=True)
    )


def _rect(x: float, y: float, width: float, height: float, line: str) -> str:
    size = f'width="{width:.1f}" height="{height:.1f}"'
    return f'<rect x="{x:.1f}" y="{y:.1f}" {size} rx="4" fill="{PANEL}" stroke="{line}"/>'


def _berth(x: float, y: float) -> str:
    shape = f'x="{x:.1f}" y="{y:.1f}" width="12" height="14" rx="2.5"'
    return f'<rect {shape} fill="none" stroke="{MOSS}" stroke-width="1.5"/>'


def _text(
    x: float, y: float, words: str, tone: str, *, bold: bool = False, end: bool = False, middle: bool = False
) -> str:
    anchor = ' text-anchor="end"' if end else ' text-anchor="middle"' if middle else ""
    weight = ' font-weight="600"' if bold else ""
    return f'<text x="{x:.1f}" y="{y:.1f}" fill="{tone}"{anchor}{weight}>{escape(words)}</text>'
