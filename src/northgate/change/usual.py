"""Usual changes, ready-made: each asks for little, and is rehearsed step by step beside doing it all at once."""

from collections.abc import Callable, Sequence
from typing import Any, Literal

from msgspec import Struct

from northgate.change.asked import Ask, ByHand, ByPlan, Given
from northgate.change.assumed import begun
from northgate.change.by_hand import empty, empty_asks, roll, roll_asks
from northgate.change.by_plan import before, before_asks, layer, layer_asks, port, port_asks, share, share_asks
from northgate.change.rehearsal import RehearsalAnswer, Rehearsed, Told, rehearse_drill, rehearse_steps
from northgate.engine.base import CannotRun
from northgate.engine.reports import AnswerModel
from northgate.plan import Plan, Problem
from northgate.plan.editing import patch_between
from northgate.plan.problems import did_you_mean


class UsualChange(AnswerModel):
    """A change that can be made of a plan as it is."""

    code: str
    title: str
    says: str
    asks: list[Ask]


class UsualAnswer(AnswerModel):
    """A usual change, rehearsed; and the edit (RFC 6902) that makes the plan as it is afterwards, or that adds what is
    done as a drill."""

    rehearsal: RehearsalAnswer
    patch: list[dict[str, Any]]
    adds: Literal["plan", "drill"]


class _Kind(Struct, frozen=True):
    """A kind of change: how it is called, what it asks of a plan (nothing: it cannot be made of it), and making it."""

    title: str
    says: str
    asks: Callable[[Plan], list[Ask]]
    make: Callable[[Plan, Given], ByPlan | ByHand]


def offered(plan: Plan) -> list[UsualChange]:
    """The usual changes that can be made of a plan."""
    made = []
    for code, kind in KINDS.items():
        asks = kind.asks(plan)
        if asks:
            made.append(UsualChange(code=code, title=kind.title, says=kind.says, asks=asks))
    return made


class UsualMade(Struct, frozen=True):
    """A usual change, rehearsed, whose every second can be looked at."""

    answer: UsualAnswer
    rehearsed: Rehearsed


def usual(plan: Plan, code: str, given: Given, told: Told = lambda _done, _of: None) -> UsualMade:
    """A usual change, rehearsed; what is not given is taken as offered. Raises CannotRun where it cannot be made."""
    kind = KINDS.get(code)
    if kind is None:
        raise CannotRun([Problem("", f"there is no usual change {code!r}{did_you_mean(code, KINDS)}")])
    made = kind.make(plan, _whole(kind.asks(plan), code, given))
    if isinstance(made, ByHand):
        rehearsed = rehearse_drill(plan, made.drill, made.marks, made.once, told)
        value = made.drill.model_dump(mode="json", by_alias=True, exclude_defaults=True)
        patch: list[dict[str, Any]] = [{"op": "add", "path": "/drills/-", "value": value}]
        return UsualMade(UsualAnswer(rehearsal=rehearsed.answer, patch=patch, adds="drill"), rehearsed)
    rehearsed = rehearse_steps(begun(plan, made.after), made.steps, told=told)
    patch = patch_between(plan, made.after)
    return UsualMade(UsualAnswer(rehearsal=rehearsed.answer, patch=patch, adds="plan"), rehearsed)


def _whole(asks: Sequence[Ask], code: str, given: Given) -> Given:
    """What is given, checked against what is asked, and what is offered for the rest."""
    known = [one.name for one in asks]
    problems = [
        Problem("", f"{code} does not ask for {one!r}{did_you_mean(one, known)}") for one in given if one not in known
    ]
    if not asks:
        problems.append(Problem("", f"{code} cannot be made of this plan: it has nothing that fits"))
    for ask in asks:
        said = given.get(ask.name, ask.given)
        if ask.offers and said not in ask.offers:
            problems.append(Problem("", f"{ask.name}: there is no {said!r}{did_you_mean(said, ask.offers)}"))
        if not ask.offers and not (said.isascii() and said.isdigit() and 0 < int(said) < 65_536):
            problems.append(Problem("", f"{ask.name} must be a whole number from 1 to 65,535; found {said!r}"))
    if problems:
        raise CannotRun(problems)
    return {ask.name: given.get(ask.name, ask.given) for ask in asks}


KINDS: dict[str, _Kind] = {
    "before": _Kind(
        "Put a balancer before a server", "Its address is taken over in one moment, once the balancer is proven.",
        before_asks, before,
    ),
    "share": _Kind(
        "Move a share to other targets", "1, 5, 25 and 100 %, each seen for a minute.", share_asks, share,
    ),
    "roll": _Kind(
        "Restart all, in batches", "Each batch is drained, restarted and proven before the next.", roll_asks, roll
    ),
    "empty": _Kind(
        "Empty a zone before maintenance", "Its instances are drained before it is turned off.", empty_asks, empty
    ),
    "port": _Kind(
        "Change a port", "A group on the new port is proven beside the old, which it then replaces.", port_asks, port
    ),
    "layer": _Kind(
        "Change a layer", "A balancer of the other layer is built beside the old, and names are led there.",
        layer_asks, layer,
    ),
}  # fmt: skip
