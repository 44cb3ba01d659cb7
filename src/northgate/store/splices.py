"""Revisions kept as what differs from the one they were made of, with a whole one now and then.

A splice is a JSON list: how many characters are kept of the start and of the end of the other text, and what stands
between them.
"""

import json
from collections.abc import Sequence

# After so many splices in a row a revision is kept whole; so is one of which a splice would not be much shorter.
MOST_SPLICES, WORTH = 50, 0.5

# What a revision is put together from: itself, and those it was made of up to the last that is whole.
CHAIN = """
WITH RECURSIVE chain(parent, splices, document) AS (
    SELECT parent, splices, document FROM revision WHERE plan_id = :plan AND number = :number
    UNION ALL
    SELECT revision.parent, revision.splices, revision.document FROM chain JOIN revision
    ON revision.plan_id = :plan AND revision.number = chain.parent WHERE chain.splices > 0
)
SELECT splices, document FROM chain
"""


def splice(before: str, after: str) -> str:
    """What makes one text of another."""
    start = _alike(before, after)
    longest = min(len(before), len(after)) - start
    end = _alike(before[::-1][:longest], after[::-1][:longest])
    return json.dumps([start, end, after[start : len(after) - end]], ensure_ascii=False)


def spliced(before: str, text: str) -> str:
    """A text made of another by a splice; raises ValueError for what is none."""
    start, end, between = json.loads(text)
    if not (0 <= start <= len(before) and 0 <= end <= len(before) - start):
        raise ValueError("a splice goes beyond what it is of")
    return before[:start] + str(between) + before[len(before) - end :]


def put_together(chain: Sequence[tuple[int, str]]) -> str:
    """A revision from what CHAIN finds, itself first; raises ValueError where something is missing or damaged."""
    *changes, (left, text) = chain
    if left:
        raise ValueError("what it was made of is not there")
    for _, change in reversed(changes):
        text = spliced(text, change)
    return text


def _alike(one: str, other: str) -> int:
    """How many characters two texts begin alike with."""
    low, high = 0, min(len(one), len(other))
    while low < high:
        middle = (low + high + 1) // 2
        # Slices are compared at once; what is known to be alike is not compared again.
        if one[low:middle] == other[low:middle]:
            low = middle
        else:
            high = middle - 1
    return low
