"""What attacks came to, over all processes that made them: `make attack` prints it at the end.

NORTHGATE_TALLY names the file that is added to; without it nothing is counted.
"""

import json
import os
import sys
from collections import defaultdict
from pathlib import Path

FILE = "NORTHGATE_TALLY"


def count(what, *, most=False, **numbers):
    """Adds numbers to what one attack came to; `most`: the largest counts, not the sum."""
    if FILE in os.environ:
        with Path(os.environ[FILE]).open("a") as file:
            file.write(json.dumps([what, most, numbers]) + "\n")


def answered(what, answers):
    """Counts answers: how many, of which kind, and the slowest of those that refuse and of the others (s)."""
    took = defaultdict(float)
    kinds = defaultdict(int)
    for answer in answers:
        kind = "5xx" if answer.status_code >= 500 else "4xx" if answer.status_code >= 400 else "2xx"
        kinds[kind] += 1
        slowest = "slowest refusal, s" if kind == "4xx" else "slowest answer, s"
        took[slowest] = max(took[slowest], round(answer.elapsed.total_seconds(), 3))
    count(what, requests=len(answers), **({"5xx": 0} | kinds))
    count(what, most=True, **took)


def added_up(lines):
    """The numbers of each attack, from what was counted of it."""
    sums = defaultdict(dict)
    for line in lines:
        what, most, numbers = json.loads(line)
        for name, number in numbers.items():
            before = sums[what].get(name, 0)
            sums[what][name] = max(before, number) if most else before + number
    return sums


if __name__ == "__main__":
    for what, numbers in added_up(Path(sys.argv[1]).read_text().splitlines()).items():
        print(f"{what}: " + ", ".join(f"{name} {number:,}" for name, number in numbers.items()))
