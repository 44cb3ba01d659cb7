"""Judgements of plans: what is wrong, what losses cost, how much is enough; kept as all computed answers are."""

import datetime
from collections.abc import Hashable

from northgate.cost import CostAnswer, cost
from northgate.engine.base import CannotRun
from northgate.engine.reports.losses import LossRow
from northgate.losses import LossesAnswer, loss_table
from northgate.review import ReviewAnswer
from northgate.sizing import SizingAnswer, Survive, sizing
from northgate.web.computing import Computer
from northgate.web.deciding import tasks
from northgate.web.told.model import WebAnswer


class WorkDone(WebAnswer):
    """How much of some work is done, of how much; nothing while nobody does it. `waits`: how many are computed before
    it, where it waits for its turn."""

    done: int | None
    of: int | None
    waits: int | None = None


def work_done(computer: Computer, question: Hashable) -> WorkDone:
    """How far the work on a question is."""
    done = computer.done.get(question)
    return WorkDone(done=done and done[0], of=done and done[1], waits=computer.slots.before(question))


class Judge:
    """Judges the plans of a computer, once per content."""

    def __init__(self, computer: Computer) -> None:
        self.computer = computer

    def losses(self, key: str, revision: int | None, *, pairs: bool) -> LossesAnswer:
        """The table of losses, shared out among processes; raises CannotRun."""
        number = self.computer.number(key, revision)
        question, plan = self._losses_question(key, number, pairs=pairs), self.computer.plan(key, number)
        watch = self.computer.watch(question)

        def told(done: int, of: int) -> None:
            watch()
            self.computer.done[question] = (done, of)

        def work() -> LossesAnswer:
            try:
                return loss_table(plan, pairs=pairs, told=told)
            finally:
                self.computer.done.pop(question, None)

        return self.computer.once(question, work)

    def losses_work(self, key: str, revision: int | None, *, pairs: bool) -> WorkDone:
        """How many losses have been computed, of how many."""
        question = self._losses_question(key, self.computer.number(key, revision), pairs=pairs)
        return work_done(self.computer, question)

    def sizing(
        self, key: str, revision: int | None, survive: Survive, below: float | None, failed_below: float | None,
        surge: float | None,
    ) -> SizingAnswer:  # fmt: skip
        """How much is enough; raises CannotRun."""
        number = self.computer.number(key, revision)
        plan = self.computer.plan(key, number)
        question = ("sizing", self.computer.content(key, number), survive, below, failed_below, surge)
        watch = self.computer.watch(question)
        return self.computer.once(
            question, lambda: sizing(plan, survive, below, failed_below, surge, lambda *_: watch())
        )

    def _losses_question(self, key: str, number: int, *, pairs: bool) -> Hashable:
        return ("losses", self.computer.content(key, number), pairs)

    def cost(self, key: str, revision: int | None) -> CostAnswer:
        """What it costs; raises CannotRun."""
        number = self.computer.number(key, revision)
        plan, question = self.computer.plan(key, number), ("cost", self.computer.content(key, number))
        return self.computer.once(question, lambda: cost(plan, self.computer.settled(key, number)))

    def review(self, key: str, revision: int | None, today: datetime.date, *, losses: bool) -> ReviewAnswer:
        """What is wrong with a plan, with what its losses come to where that is asked for and it can be run."""
        number = self.computer.number(key, revision)
        plan = self.computer.plan(key, number)
        rows: list[LossRow] | None = None
        if losses:
            try:
                rows = [row for row in self.losses(key, number, pairs=False).losses if len(row.parts) == 1]
            except CannotRun:
                rows = None
        question = ("review", self.computer.whole(key, number), today, losses)
        return self.computer.once(question, lambda: self.computer.quickly(tasks.reviewed, plan, today, rows))
