"""Access logs: what was asked how often, when, and from how many sources.

Sources: the Common Log Format of the NCSA httpd, and the combined one, which adds the referring page and the client's
program.
"""

import calendar
import re
from collections import Counter
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from functools import lru_cache
from ipaddress import ip_address

from northgate.intake.bad import Bad

LINE = re.compile(
    rb"^(\S+) \S+ .*?\[(\d\d/\w{3}/\d{4}:\d\d:\d\d:\d\d) ([+-]\d{4})\] "
    rb'"([A-Z]{3,10}) (\S+)(?: HTTP/[\d.]+)?" (\d{3}) \S+'
)
MONTHS = {name.encode(): number for number, name in enumerate(calendar.month_abbr) if name}
# Rates are counted in bins of a minute; so many kinds of calls are kept apart, the others are one.
BIN_S, MOST_CALLS, MOST_SOURCES, HEAVY = 60, 12, 2_000_000, 5
TOLD_LINES, MOST_MINUTES = 200_000, 3000


@dataclass
class Traffic:
    """What a log tells: requests by minute, by method and kind of path, and by source; lines that are no requests."""

    requests: int = 0
    minutes: Counter[int] = field(default_factory=Counter)
    paths: dict[tuple[str, str], Counter[str]] = field(default_factory=dict)
    sources: Counter[str] = field(default_factory=Counter)
    bad: Bad = field(default_factory=Bad)

    @property
    def peak_rps(self) -> float:
        """The rate of the busiest minute (requests/s)."""
        return max(self.minutes.values(), default=0) / BIN_S

    def profile(self) -> list[list[float]]:
        """From which second on, since the first request's minute, which part of the peak was asked."""
        first, most = min(self.minutes, default=0), max(self.minutes.values(), default=1)
        steps: list[list[float]] = []
        for minute in sorted(self.minutes)[:MOST_MINUTES]:
            for at, part in ((minute, self.minutes[minute] / most), (minute + 1, 0.0)):
                second = float((at - first) * BIN_S)
                if steps and steps[-1][0] == second:
                    steps.pop()
                if not steps or steps[-1][1] != round(part, 4):
                    steps.append([second, round(part, 4)])
        return steps

    def calls(self, base: str) -> list[dict[str, object]]:
        """The kinds of calls by how often they came, each by its most frequent path; the rarest are in the last."""
        kinds = sorted(self.paths.items(), key=lambda one: -one[1].total())
        kept, others = kinds[:MOST_CALLS], kinds[MOST_CALLS:]
        made = []
        for at, ((method, _), paths) in enumerate(kept):
            more = sum(some.total() for _, some in others) if at == len(kept) - 1 else 0
            call: dict[str, object] = {"url": base + paths.most_common(1)[0][0], "share": paths.total() + more}
            made.append(call if method == "GET" else call | {"method": method})
        return made


def read_log(lines: Iterable[bytes], told: Callable[[int], None] = lambda _: None) -> Traffic:
    """Reads a log line by line; nothing of it is kept but counts."""
    traffic = Traffic()
    for number, line in enumerate(lines, 1):
        if number % TOLD_LINES == 0:
            told(number)
        found = LINE.match(line)
        second = _second(found[2], found[3]) if found else None
        if found is None or second is None:
            if line.strip():
                traffic.bad.note(number, line)
            continue
        traffic.requests += 1
        traffic.minutes[second // BIN_S] += 1
        method, path = found[4].decode("ascii"), _path(found[5])
        traffic.paths.setdefault((method, _kind(path)), Counter())[path] += 1
        source = found[1].decode("latin-1")
        if source in traffic.sources or len(traffic.sources) < MOST_SOURCES:
            traffic.sources[source] += 1
    return traffic


@lru_cache(maxsize=4096)
def _second(when: bytes, zone: bytes) -> int | None:
    """The second of a time such as `26/Nov/2026:18:30:05`, `+0100`; None where there is no such time."""
    month = MONTHS.get(when[3:6])
    if month is None:
        return None
    day, year, hour, minute, second = (
        int(when[:2]),
        int(when[7:11]),
        int(when[12:14]),
        int(when[15:17]),
        int(when[18:20]),
    )
    if not (1 <= day <= 31 and hour < 24 and minute < 60 and second <= 60):
        return None
    offset = (int(zone[1:3]) * 60 + int(zone[3:5])) * (-60 if zone[:1] == b"-" else 60)
    return calendar.timegm((year, month, day, hour, minute, second)) - offset


def _path(asked: bytes) -> str:
    """The path of what was asked, without its query; `/` for what has none."""
    text = asked.decode("latin-1").partition("?")[0].partition("#")[0]
    if "://" in text:
        text = "/" + text.partition("://")[2].partition("/")[2]
    return text if text.startswith("/") and text.isascii() and text.isprintable() and len(text) <= 200 else "/"


def _kind(path: str) -> str:
    """Paths with the same first segment are one kind."""
    return "/".join(path.split("/", 2)[:2])


def is_heavy(traffic: Traffic) -> list[tuple[str, float]]:
    """The sources that asked most, with their share of all, where that is at least ten times the mean."""
    mean = 1 / max(len(traffic.sources), 1)
    shares = [(source, count / traffic.requests) for source, count in traffic.sources.most_common(HEAVY)]
    return [(source, share) for source, share in shares if share >= 10 * mean and _is_address(source)]


def _is_address(text: str) -> bool:
    try:
        ip_address(text)
    except ValueError:
        return False
    return True
