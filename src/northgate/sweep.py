"""One or two settings swept: what a drill comes to at each of their values, and what that costs in probes and false
alarms."""

import re
from collections.abc import Iterator, Sequence
from itertools import product
from typing import Any

from msgspec import Struct

from northgate.engine.base import CannotRun
from northgate.engine.drill import run_drill
from northgate.engine.network import Network, compile_network
from northgate.engine.reports import AnswerModel
from northgate.plan import Plan, PlanError, Problem
from northgate.plan.editing import patched, whole_data
from northgate.plan.models.drills import EXPECTABLE
from northgate.plan.problems import did_you_mean, pointer
from northgate.work import Told, as_it_is, spread, untold

DAY_S = 86_400
# Numbers that name something rather than tell how much of it there is.
NAMES = {"northgate", "layer", "port", "status"}
# Nobody sweeps over more cells than this.
MOST_CELLS = 10_000
NUMBER = r"\d+(?:\.\d+)?"
AXIS = re.compile(rf"^(?P<path>[^=]+)=(?P<low>{NUMBER})(\.\.(?P<high>{NUMBER})(/(?P<step>{NUMBER}))?)?$")


class Axis(AnswerModel):
    """One setting (as it was asked: `probes/ready/interval_s`), its place in the plan (JSON Pointer), its value there,
    and those swept over."""

    path: str
    place: str
    now: float
    values: list[float]


class Setting(AnswerModel):
    """A number of a plan that can be swept: its path, its value now, and where a sweep of it would begin and end."""

    path: str
    now: float
    low: float
    high: float
    step: float


class SweepAnswer(AnswerModel):
    """A reading at every pair of values (`values[i][j]`, of the first and second axis; one column where there is one;
    None where the plan cannot be run), the probes a second that they cost and the false alarms a day; `front`: the
    cells of which none has both a smaller reading and fewer probes."""

    axes: list[Axis]
    values: list[list[float | None]]
    probe_rps: list[list[float]]
    false_alarms_per_day: list[list[float]]
    front: list[tuple[int, int]]


class Cell(Struct, frozen=True):
    """One cell: the values at their places, the drill and the reading."""

    changes: tuple[tuple[str, float], ...]
    drill: str
    reading: str
    loss: float


def settings_of(plan: Plan) -> list[Setting]:
    """Every number of a plan that can be swept, by the names of what it belongs to; drills are what is asked."""
    return [_setting(path, value) for path, value in _numbers(whole_data(plan), "") if not path.startswith("drills/")]


def _numbers(here: Any, path: str) -> Iterator[tuple[str, float]]:
    if isinstance(here, int | float) and not isinstance(here, bool):
        yield path, here
    parts = here.items() if isinstance(here, dict) else enumerate(here) if isinstance(here, list) else ()
    for at, one in parts:
        name = one["name"] if isinstance(at, int) and isinstance(one, dict) and "name" in one else at
        # Pages have no such path, and their statuses are no amounts.
        if "/" not in str(name) and name not in NAMES:
            yield from _numbers(one, f"{path}/{name}" if path else str(name))


def _setting(path: str, now: float) -> Setting:
    """From about half of what it is to about twice that, in steps of a fifth of it: it is one of the values itself, and
    all are whole where it is."""
    whole = float(now).is_integer()
    if now <= 0:
        return Setting(path=path, now=now, low=now, high=now + 3, step=1)
    step = max(round(now / 5), 1) if whole else float(f"{now / 5:.2g}")
    low = now - step * int(now / 2 / step)
    return Setting(path=path, now=now, low=round(low, 9), high=round(now + step * int(now / step), 9), step=step)


def axis_of(plan: Plan, text: str) -> Axis:
    """An axis as it is written: PATH=LOW..HIGH/STEP, or PATH=VALUE; raises PlanError."""
    found = AXIS.match(text)
    if found is None:
        raise PlanError([Problem("--set", f"{text!r} is not a setting such as probes/ready/interval_s=2..30/2")])
    low = float(found["low"])
    high, step = float(found["high"] or low), float(found["step"] or 1)
    if high < low or step <= 0:
        raise PlanError([Problem("--set", f"{text!r}: values go from low to high, by a step above 0")])
    count = int((high - low) / step + 1e-9) + 1
    if count > MOST_CELLS:
        raise PlanError([Problem("--set", f"{text!r}: {count:,} values are more than {MOST_CELLS:,}")])
    values = [round(low + number * step, 9) for number in range(count)]
    place, now = _place(plan, found["path"])
    return Axis(path=found["path"], place=place, now=now, values=values)


def _place(plan: Plan, path: str) -> tuple[str, float]:
    """The JSON Pointer and the value of a setting that is named by names: `probes/ready/interval_s`."""
    here: Any = whole_data(plan)
    way: list[str | int] = []
    for part in path.strip("/").split("/"):
        known: list[str] = []
        if isinstance(here, dict):
            known = list(here)
            found: str | int | None = part if part in here else None
        elif isinstance(here, list):
            known = [str(one.get("name", at)) if isinstance(one, dict) else str(at) for at, one in enumerate(here)]
            found = (
                known.index(part) if part in known else int(part) if part.isdigit() and int(part) < len(here) else None
            )
        else:
            found = None
        if found is None:
            raise PlanError([Problem("--set", f"{path!r}: there is no {part!r}{did_you_mean(part, known)}")])
        way.append(found)
        here = here[found]
    if isinstance(here, bool) or not isinstance(here, int | float):
        raise PlanError([Problem("--set", f"{path!r} is no number")])
    return pointer(way), here


def sweep(
    plan: Plan, drill: str, settings: Sequence[str], reading: str, loss: float = 0.001, told: Told = untold
) -> SweepAnswer:
    """A reading of a drill over one or two settings; `loss`: the share of probes that fail though all is well. Raises
    PlanError when a setting, the drill or the reading is unknown."""
    known = [one.name for one in plan.drills]
    if drill not in known:
        raise PlanError([Problem("/drills", f"there is no drill {drill!r}{did_you_mean(drill, known)}")])
    if reading not in EXPECTABLE:
        raise PlanError([Problem("--reading", f"there is no reading {reading!r}{did_you_mean(reading, EXPECTABLE)}")])
    if not 1 <= len(settings) <= 2:
        raise PlanError([Problem("--set", "one or two settings are swept")])
    axes = [axis_of(plan, text) for text in settings]
    places = [axis.place for axis in axes]
    columns = axes[1].values if len(axes) > 1 else [None]
    if len(axes[0].values) * len(columns) > MOST_CELLS:
        raise PlanError([Problem("--set", f"these are more than {MOST_CELLS:,} cells")])
    cells = [
        Cell(
            tuple((place, value) for place, value in zip(places, pair, strict=False) if value is not None),
            drill,
            reading,
            loss,
        )
        for pair in product(axes[0].values, columns)
    ]
    found = spread(cell_value, as_it_is, plan, cells, told)
    width = len(columns)
    rows = [found[at : at + width] for at in range(0, len(found), width)]
    values = [[value for value, _, _ in row] for row in rows]
    probes = [[rps for _, rps, _ in row] for row in rows]
    return SweepAnswer(
        axes=axes, values=values, probe_rps=probes,
        false_alarms_per_day=[[alarms for _, _, alarms in row] for row in rows],
        front=pareto(values, probes),
    )  # fmt: skip


def cell_value(plan: Plan, cell: Cell) -> tuple[float | None, float, float]:
    """One cell: the reading, the probes a second, and the false alarms a day."""
    patch = [{"op": "replace", "path": place, "value": _number(plan, place, value)} for place, value in cell.changes]
    try:
        changed = patched(plan, patch)
        script = next(one for one in changed.drills if one.name == cell.drill)
        # What another drill names need not be there.
        network = compile_network(changed.model_copy(update={"drills": [script]}))
        value = run_drill(network, script).readings.value(cell.reading)
    except (CannotRun, PlanError):
        return None, 0.0, 0.0
    return float(value), probes_per_s(network), false_alarms_per_day(network, cell.loss)


def _number(plan: Plan, place: str, value: float) -> float | int:
    """A value as its field takes it: whole where it is whole there."""
    here = whole_data(plan)
    for part in place.strip("/").split("/"):
        here = here[int(part)] if isinstance(here, list) else here[part]
    return int(value) if isinstance(here, int) and value == int(value) else value


def probes_per_s(network: Network) -> float:
    """How many probes all fronts together send to targets in a second."""
    groups = network.pairs.group[network.probed.pair].tolist()
    probes = network.groups.probe
    return float(sum(1 / probe.interval_s for group in groups if (probe := probes[group])))


def false_alarms_per_day(network: Network, loss: float) -> float:
    """How often a day a prober takes a target for dead though all is well, if a share of probes fails by chance.

    n failures in a row of share p come every (1 - p^n) / (p^n (1 - p)) probes on the mean (W. Feller, "An Introduction
    to Probability Theory and Its Applications", volume 1, chapter XIII.7).
    """
    total = 0.0
    for group in network.pairs.group[network.probed.pair].tolist():
        probe = network.groups.probe[group]
        if probe and 0 < loss < 1:
            run = loss**probe.unhealthy_after
            total += DAY_S / probe.interval_s * run * (1 - loss) / (1 - run)
    return total


def pareto(values: Sequence[Sequence[float | None]], probes: Sequence[Sequence[float]]) -> list[tuple[int, int]]:
    """The cells that no other is better than in one, and as good as in the other, of reading and probes."""
    cells = [
        (value, probes[i][j], i, j) for i, row in enumerate(values) for j, value in enumerate(row) if value is not None
    ]
    best, found = float("inf"), list[tuple[int, int]]()
    for value, _, i, j in sorted(cells, key=lambda one: (one[1], one[0])):
        if value < best:
            best = value
            found.append((i, j))
    return found
