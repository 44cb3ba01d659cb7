"""Edits of a plan by name, and the steps that are made of them."""

import copy
from typing import Any, Literal

from msgspec import Struct

from northgate.plan import Plan, plan_from_data
from northgate.plan.editing import whole_data

Data = dict[str, Any]
Op = Literal["put", "drop", "set", "merge"]


class Edit(Struct, frozen=True):
    """One edit of a plan by name: of the object `name` in the list `field`; `value` is the object itself (put), the
    fields that change (set), or what changes of the entries of these (merge; None: the entry goes). `brings` and
    `takes` name what is within it from then on, or no longer: zones, subnets."""

    op: Op
    field: str
    name: str
    value: Any = None
    brings: tuple[str, ...] = ()
    takes: tuple[str, ...] = ()

    def apply(self, data: Data) -> None:
        """Makes the edit."""
        items = data[self.field]
        place = next((at for at, one in enumerate(items) if one["name"] == self.name), None)
        if self.op == "put":
            items.append(copy.deepcopy(self.value))
        elif place is None:
            return
        elif self.op == "drop":
            del items[place]
        elif self.op == "set":
            items[place] |= copy.deepcopy(self.value)
        else:
            for key, entries in self.value.items():
                merged = items[place][key] | entries
                items[place][key] = {entry: value for entry, value in merged.items() if value is not None}

    @property
    def builds(self) -> set[str]:
        """What is there from then on, by name."""
        return {*self.brings, *([self.name] if self.op == "put" else [])}

    @property
    def drops(self) -> set[str]:
        """What is no longer there, by name."""
        return {*self.takes, *([self.name] if self.op == "drop" else [])}


class ChangeStep(Struct, frozen=True):
    """One step: what is done, in words, by which edits, which steps (by number) must come before, and for how long it
    is looked at, at the least (s)."""

    words: str
    edits: tuple[Edit, ...]
    needs: tuple[int, ...] = ()
    seen_s: float = 0.0

    def apply(self, plan: Plan) -> Plan:
        """The plan after this step."""
        data = whole_data(plan)
        for edit in self.edits:
            edit.apply(data)
        return plan_from_data(data)
