"""Traces: one request followed to its end, or many in turn, and what many are expected to get.

A trace reads the shares that the solver found; it computes none of its own, except where a hash decides for one source.
"""

from collections.abc import Sequence

from northgate.engine.network import Network
from northgate.engine.solver import Flow
from northgate.engine.trace.answer import Expected, Hop, Outcome, TraceAnswer
from northgate.engine.trace.expected import Expectation
from northgate.engine.trace.format import in_numbers
from northgate.engine.trace.history import History
from northgate.engine.trace.own import plainly
from northgate.engine.trace.question import Question
from northgate.engine.trace.stages.way import Context, Label
from northgate.engine.trace.walk import Walker


def trace(flow: Flow, question: Question, history: History | None = None) -> TraceAnswer:
    """Follows a request, or many in turn, at the moment of a flow; `history` knows what happened before.

    Raises CannotRun when the client group, the area or the address is not known.
    """
    walker = Walker(Context(flow, question, history or History(flow)))
    firsts: tuple[Outcome, list[Hop]] | None = None
    ends: list[Outcome] = []
    for number in range(max(question.times, 1)):
        outcome, hops = walker.send(number)
        firsts = (outcome, hops) if number == min(question.show, question.times - 1) else firsts
        ends.append(outcome)
    assert firsts is not None
    outcome, hops = firsts
    many = question.times > 1
    answers = [end.error or end.target or str(end.status) for end in ends]
    rows = _expected(walker, ends) if many else []
    at = {(row.answer, row.error, row.cause): number for number, row in enumerate(rows)}
    return TraceAnswer(
        request=walker.context.asking.described(),
        outcome=outcome,
        hops=plainly(hops),
        explained=walker.explained(),
        answers=answers if many else [],
        counts={one: answers.count(one) for one in dict.fromkeys(answers)} if many else {},
        expected=rows,
        sequence=[at[answer_key(end)] for end in ends] if many else [],
    )


def _expected(walker: Walker, ends: Sequence[Outcome]) -> list[Expected]:
    """Each answer with its count, and the share that was to be expected."""
    shares = Expectation(walker).shares()
    rows: dict[Label, list[Outcome]] = {key: [] for key in shares}
    for end in ends:
        rows.setdefault(answer_key(end), []).append(end)
    return [
        Expected(
            answer=label[0], error=label[1], cause=label[2], count=len(found), expected_share=shares.get(label, 0.0),
            zone=found[0].zone if found else _zone_of(walker.network, label[0]),
        )
        for label, found in sorted(rows.items(), key=lambda row: (in_numbers(row[0][0]), str(row[0][1:])))
    ]  # fmt: skip


def _zone_of(network: Network, answer: str) -> str | None:
    try:
        return network.zones[int(network.machines.zone[network.machines.index(answer)])]
    except KeyError:
        return None


def answer_key(end: Outcome) -> Label:
    """What came back: the target that answered, or failed to; the error, as which a status of 400 or more counts; and
    the cause."""
    error = end.error or (f"status {end.status}" if end.cause else None)
    return end.target or end.error or str(end.status), error, end.cause
