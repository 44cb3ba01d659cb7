"""What the engine refuses.

CannotRun                 the plan is well formed, but cannot be computed; carries `Problem`s with places
"""

from collections.abc import Iterable
from typing import Any

from northgate.plan.problems import Problem


class CannotRun(Exception):
    """The plan cannot be run as it stands; `problems` says where and why."""

    def __init__(self, problems: Iterable[Problem]) -> None:
        self.problems = tuple(problems)
        super().__init__("\n".join(problem.describe() for problem in self.problems))

    def __reduce__(self) -> tuple[Any, ...]:
        # Errors come from other processes, too.
        return type(self), (self.problems,)
