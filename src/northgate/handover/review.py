"""A review on paper: for a terminal, as Markdown, and as SARIF 2.1.0 (OASIS), which code review tools read."""

from collections.abc import Callable
from typing import Any

from northgate import __version__
from northgate.plan.problems import Problem
from northgate.review import RULES, SEVERITIES, FindingAnswer, ReviewAnswer

LEVELS = {"stops": "error", "risks": "warning", "advice": "note"}
SCHEMA = "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json"
# Where a finding stands in the text it was read from: line and column from 1, None where there is no text.
Place = Callable[[str], tuple[int, int] | None]


def review_summary(answer: ReviewAnswer, source: str, place: Place) -> str:
    """The findings by severity, each with its place, reason and remedy."""
    lines = [_counts(answer)]
    for severity in SEVERITIES:
        found = [one for one in answer.findings if one.severity == severity and one.because is None]
        lines += ["", severity] if found else []
        for one in found:
            lines.append("  " + _problem(one, place).describe(source))
            lines.append(f"      {one.code} · {one.remedy}")
    left = [one for one in answer.findings if one.because is not None]
    lines += ["", "left as they are"] if left else []
    lines += [f"  {one.code} of {one.about}, because {one.because}" for one in left]
    return "\n".join(lines)


def _problem(one: FindingAnswer, place: Place) -> Problem:
    problem, at = Problem(one.where, one.message), place(one.where)
    return problem.at(*at) if at else problem


def _counts(answer: ReviewAnswer) -> str:
    counts = ", ".join(f"{count} {severity}" for severity, count in answer.counts.items())
    lacking = "" if "losses" in answer.looked_at else "; losses were not looked at"
    return f"{counts}{lacking if answer.runs else '; the plan cannot be run as it is'}"


def review_as_markdown(plan: str, answer: ReviewAnswer) -> str:
    """A table of findings for a pull request."""
    lines = [f"# Review of {plan}", "", _counts(answer), ""]
    rows = [one for one in answer.findings if one.because is None]
    if rows:
        lines += ["| severity | about | what | remedy |", "| --- | --- | --- | --- |"]
        lines += [
            f"| {one.severity} | {_cell(one.about)} | {_cell(one.message)} (`{one.code}`) | {_cell(one.remedy)} |"
            for one in rows
        ]
    left = [one for one in answer.findings if one.because is not None]
    lines += ["", "Left as they are:", ""] if left else []
    lines += [f"- `{one.code}` of {one.about}, because {one.because}" for one in left]
    return "\n".join(lines) + "\n"


def _cell(text: str) -> str:
    return text.replace("\\", "\\\\").replace("|", "\\|").replace("\n", " ")


def review_as_sarif(answer: ReviewAnswer, source: str, place: Place) -> dict[str, Any]:
    """One run of SARIF 2.1.0: every rule, and every finding with its place; accepted ones are suppressed."""
    codes = list(RULES)
    rules = [
        {
            "id": rule.code,
            "shortDescription": {"text": rule.says.split("\n\n")[0].replace("\n", " ")},
            "defaultConfiguration": {"level": LEVELS[rule.severity]},
        }
        for rule in RULES.values()
    ]
    driver = {"name": "North Gate", "version": __version__, "rules": rules}
    results = [_result(one, codes.index(one.code), source, place) for one in answer.findings]
    run = {"tool": {"driver": driver}, "columnKind": "unicodeCodePoints", "results": results}
    return {"$schema": SCHEMA, "version": "2.1.0", "runs": [run]}


def _result(one: FindingAnswer, number: int, source: str, place: Place) -> dict[str, Any]:
    physical: dict[str, Any] = {"artifactLocation": {"uri": source}}
    at = place(one.where)
    if at:
        physical["region"] = {"startLine": at[0], "startColumn": at[1]}
    result: dict[str, Any] = {
        "ruleId": one.code,
        "ruleIndex": number,
        "level": LEVELS[one.severity],
        "message": {"text": f"{one.message}. Remedy: {one.remedy}."},
        "locations": [
            {
                "physicalLocation": physical,
                "logicalLocations": [{"fullyQualifiedName": one.where or "/", "name": one.about}],
            }
        ],
    }
    if one.because is not None:
        result["suppressions"] = [{"kind": "external", "justification": one.because}]
    return result
