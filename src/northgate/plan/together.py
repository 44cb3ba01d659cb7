"""Changes that must go together: what an edit has to change besides, so that what it leaves is a plan.

A balancer of layer 4 speaks other protocols than one of layer 7, so that neither its layer nor a listener's protocol
can be changed alone; nor can the least of a scale be lifted over its most.
"""

from collections.abc import Callable, Iterator
from typing import Any

from northgate.plan.editing import Patch, applied, patch_between, whole_data
from northgate.plan.models.document import Plan
from northgate.plan.problems import PlanError
from northgate.plan.reading import plan_from_data

# What each protocol becomes at the other layer.
_AT_LAYER = {4: {"http": "tcp", "https": "tls"}, 7: {"tcp": "http", "tls": "https", "udp": "http"}}

Data = dict[str, Any]


def completed(plan: Plan, patch: Patch) -> Patch | None:
    """A patch that is refused, with all that has to change along with it; None when nothing known would mend it."""
    data = applied(plan, patch)
    try:
        for complete in _COMPLETIONS:
            complete(whole_data(plan), data)
        whole = plan_from_data(data)
    except (PlanError, AttributeError, LookupError, TypeError, ValueError):
        # Where the patch put something that no completion expects, its own problems say what is wrong.
        return None
    return patch_between(plan, whole)


def _layers(before: Data, data: Data) -> None:
    """Listeners, and the groups behind them, speak what their balancer's layer speaks; or the layer follows them."""
    were = {one["name"]: one for one in before["balancers"]}
    for balancer in data["balancers"]:
        layer = _layer_meant(were.get(balancer["name"]), balancer)
        if layer == balancer["layer"] and not _unfitting(balancer["listeners"], layer):
            continue
        balancer["layer"] = layer
        for listener in balancer["listeners"]:
            _fit_listener(data, listener, layer)
        for group in _groups_of_this_alone(data, balancer):
            group["protocol"] = _AT_LAYER[layer].get(group["protocol"], group["protocol"])
            if layer == 4 and group["affinity"]["by"] == "cookie":
                group["affinity"]["by"] = "source"


def _unfitting(listeners: list[Data], layer: int) -> list[Data]:
    return [one for one in listeners if one["protocol"] in _AT_LAYER[layer] or (layer == 4 and one["rules"])]


def _layer_meant(was: Data | None, balancer: Data) -> int:
    """The layer that was just chosen; or that of a listener's protocol, where this was."""
    layer: int = balancer["layer"]
    if was is None or was["layer"] != layer:
        return layer
    spoke = {one["name"]: one["protocol"] for one in was["listeners"]}
    chosen = [one for one in _unfitting(balancer["listeners"], layer) if spoke.get(one["name"]) != one["protocol"]]
    return 11 - layer if any(one["protocol"] in _AT_LAYER[layer] for one in chosen) else layer


def _fit_listener(data: Data, listener: Data, layer: int) -> None:
    listener["protocol"] = _AT_LAYER[layer].get(listener["protocol"], listener["protocol"])
    if layer == 4:
        asked = [rule["do"]["pool"] for rule in listener["rules"] if rule["do"]["pool"]]
        pools = [*asked, *(one["name"] for one in data["pools"])]
        listener["rules"] = []
        if listener["otherwise"]["pool"] is None:
            listener["otherwise"] = {"pool": pools[0]}
    elif listener["protocol"] == "https" and listener["certificate"] is None and data["certificates"]:
        listener["certificate"] = data["certificates"][0]["name"]


def _groups_of_this_alone(data: Data, balancer: Data) -> Iterator[Data]:
    """The groups behind a balancer that no balancer of another layer sends to."""
    others = {group for one in data["balancers"] if one["layer"] != balancer["layer"] for group in _groups(data, one)}
    names = _groups(data, balancer) - others
    return (group for group in data["target_groups"] if group["name"] in names)


def _groups(data: Data, balancer: Data) -> set[str]:
    does = [rule["do"] for one in balancer["listeners"] for rule in one["rules"]]
    does += [one["otherwise"] for one in balancer["listeners"]]
    pools = {one.get("pool") for one in does}
    return {
        group for pool in data["pools"] if pool["name"] in pools for tier in pool["tiers"] for group in tier["groups"]
    }


def _scales(before: Data, data: Data) -> None:
    """The least and the most that a fleet may have: the one that was not changed follows the other."""
    were = {one["name"]: one["scale"] or {} for one in before["fleets"]}
    for fleet in data["fleets"]:
        scale = fleet["scale"]
        if scale and scale["min"] > scale["max"]:
            raised = were.get(fleet["name"], {}).get("min") != scale["min"]
            scale["max" if raised else "min"] = scale["min" if raised else "max"]


_COMPLETIONS: tuple[Callable[[Data, Data], None], ...] = (_layers, _scales)
