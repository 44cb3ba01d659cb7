"""The list of all rules as a document, from their docstrings: `python -m northgate.review.documented FILE`."""

import sys
from pathlib import Path

from northgate.review import RULES, SEVERITIES

HEAD = """# Findings

What `northgate review` looks for. Each finding has a code, by which it can be left as it is
(`accepted: [{code, about, because}]` in the plan). This page is made from the rules themselves (`make findings`).
"""
MEANS = {
    "stops": "Traffic cannot flow as planned.",
    "risks": "It flows until something fails.",
    "advice": "What could be said better, or is worth a thought.",
}
NEEDS = {"plan": "", "flow": " · looks at the traffic", "losses": " · looks at the table of losses"}


def document() -> str:
    """The page."""
    parts = [HEAD]
    for severity in SEVERITIES:
        parts.append(f"## {severity}\n\n{MEANS[severity]}\n")
        mine = sorted((rule for rule in RULES.values() if rule.severity == severity), key=lambda one: one.code)
        parts += [f"### `{rule.code}`{NEEDS[rule.needs]}\n\n{rule.says}\n" for rule in mine]
    return "\n".join(parts)


if __name__ == "__main__":
    Path(sys.argv[1]).write_text(document(), encoding="utf-8")
