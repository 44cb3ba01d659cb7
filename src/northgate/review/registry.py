"""What a review can find: every rule registers itself here by its code."""

from collections.abc import Callable, Iterable
from typing import TYPE_CHECKING, Any, Literal

from msgspec import Struct

if TYPE_CHECKING:
    from northgate.review.context import Context

Severity = Literal["stops", "risks", "advice"]
SEVERITIES: tuple[Severity, ...] = ("stops", "risks", "advice")
# What a rule looks at: the plan alone; the traffic without any fault; or the table of losses, which takes longest.
Needs = Literal["plan", "flow", "losses"]


class Found(Struct, frozen=True):
    """One thing that a rule has found: where (JSON Pointer), about what (a name), in words with the plan's values, what
    would mend it, and where an edit does so, that edit (JSON Patch)."""

    where: str
    about: str
    message: str
    remedy: str
    patch: tuple[dict[str, Any], ...] = ()


Finder = Callable[["Context"], Iterable[Found]]


class Rule(Struct, frozen=True):
    """One rule: its code, how bad it is, what it looks at, and how it finds. Its documentation is the finder's
    docstring."""

    code: str
    severity: Severity
    needs: Needs
    find: Finder

    @property
    def says(self) -> str:
        """What it is about, in one paragraph or several."""
        return "\n".join(line.strip() for line in (self.find.__doc__ or "").strip().splitlines())


RULES: dict[str, Rule] = {}


def finding(code: str, severity: Severity, needs: Needs = "plan") -> Callable[[Finder], Finder]:
    """Registers a finder under its code."""

    def register(find: Finder) -> Finder:
        assert code not in RULES, code
        RULES[code] = Rule(code, severity, needs, find)
        return find

    return register
