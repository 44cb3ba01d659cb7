"""Drills as Markdown, for the log of a pipeline."""

from collections.abc import Sequence

from northgate.engine.reports import DrillAnswer
from northgate.handover.terminal import in_unit


def drills_as_markdown(plan: str, answers: Sequence[DrillAnswer]) -> str:
    """A table of expectations for each drill, under its sentence."""
    lines = [f"# Drills of {_plain(plan)}", ""]
    verdicts = {True: "held", False: "**not held**"}
    for answer in answers:
        held = verdicts[answer.held]
        lines += [f"## {_plain(answer.title or answer.name)}: {held}", "", _plain(answer.summary), ""]
        if answer.expect:
            lines += ["| expected | got | |", "| --- | ---: | --- |"]
            lines += [
                f"| {one.reading} {one.wanted} | {in_unit(one.reading, one.got)} | {verdicts[one.held]} |"
                for one in answer.expect
            ]
            lines.append("")
    return "\n".join(lines)


def _plain(text: str) -> str:
    """Text of a plan that must not be read as markup."""
    return "".join(f"\\{one}" if one in "\\`*_{}[]<>#|" else one for one in text.replace("\n", " "))
