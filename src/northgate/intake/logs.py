"""Access logs: what was asked how often, when, and from how many sources.

Sources: the Common Log Format of the NCSA httpd, and the combined one, which adds the referring page and the client's
program.
"""

import calendar
import re
from collections import Counter
from collections.abc import Callable, Iterable, Sequence
from functools import lru_cache
from ipaddress import ip_address
from typing import BinaryIO

from msgspec import Struct, field

from northgate.intake.bad import Bad

WHEN = rb"\[(\d\d/\w{3}/\d{4}:\d\d:\d\d:[0-6]\d [+-]\d{4})\]"
LINE = re.compile(rb"^(\S+) \S+ .*?" + WHEN + rb' "([A-Z]{3,10} \S+)(?: HTTP/[\d.]+)?" \d{3} \S')
# What nearly all lines look like: found in a whole piece of a log at once, and never gone back in (`++`). A line of
# another look is read by itself.
USUAL = re.compile(
    rb"^(\S++) \S++ [^\[\n]*+" + WHEN + rb' "([A-Z]{3,10}+ [^ "\n]++)(?: HTTP/[\d.]++)?" \d{3} \S[^\n]*+$',
    re.MULTILINE,
)
MONTHS = {name.encode(): number for number, name in enumerate(calendar.month_abbr) if name}
# Rates are counted in bins of a minute; so many kinds of calls are kept apart, the others are one.
BIN_S, MOST_CALLS, MOST_SOURCES, HEAVY = 60, 12, 2_000_000, 5
MOST_MINUTES = 3000
# A log is read in pieces that stay in a processor's cache. So many different paths of a kind are counted apart: when
# there are more, only the most frequent go on being counted, for only the first of them is shown.
PIECE, MOST_PATHS, KEPT_PATHS = 65_536, 20_000, 2_000


class Traffic(Struct):
    """What a log tells: requests by minute, by method and kind of path (those in `asked` are not sorted yet), and by
    source; lines that are no requests."""

    requests: int = 0
    minutes: Counter[int] = field(default_factory=Counter)
    asked: Counter[bytes] = field(default_factory=Counter)
    kinds: Counter[tuple[str, str]] = field(default_factory=Counter)
    paths: dict[tuple[str, str], Counter[str]] = field(default_factory=dict)
    sources: Counter[bytes] = field(default_factory=Counter)
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
        kinds = self.kinds.most_common()
        kept, others = kinds[:MOST_CALLS], kinds[MOST_CALLS:]
        made = []
        for at, ((method, kind), count) in enumerate(kept):
            more = sum(some for _, some in others) if at == len(kept) - 1 else 0
            path = self.paths[method, kind].most_common(1)[0][0]
            call: dict[str, object] = {"url": base + path, "share": count + more}
            made.append(call if method == "GET" else call | {"method": method})
        return made

    def count(self, sources: Iterable[bytes], times: Iterable[tuple[int, int]], asked: Iterable[bytes]) -> None:
        """Counts the requests of a piece: their sources, how many came in which minute, and what was asked."""
        for minute, some in times:
            self.requests += some
            self.minutes[minute] += some
        if len(self.sources) < MOST_SOURCES:
            self.sources.update(sources)
        else:
            self.sources.update(one for one in sources if one in self.sources)
        self.asked.update(asked)
        if len(self.asked) > MOST_PATHS:
            self.sort_asked()

    def sort_asked(self) -> None:
        """Sorts what was asked by method and kind of path."""
        for what, some in self.asked.items():
            method, path = _asked(what)
            kind = method, _kind(path)
            self.kinds[kind] += some
            paths = self.paths.setdefault(kind, Counter())
            paths[path] += some
            if len(paths) > MOST_PATHS:
                self.paths[kind] = Counter(dict(paths.most_common(KEPT_PATHS)))
        self.asked.clear()


class LogReader:
    """Reads a log that comes piece by piece; nothing of it is kept but counts."""

    def __init__(self) -> None:
        self._traffic = Traffic()
        self._rest = b""
        # How many lines have been read.
        self.lines = 0

    def feed(self, some: bytes) -> None:
        """Reads on; a line that has not ended yet waits for more. What goes on without an end comes in parts: it is no
        line of a log."""
        for start in range(0, len(some), PIECE):
            piece = some[start : start + PIECE]
            cut = piece.rfind(b"\n") + 1
            if cut or len(self._rest) >= PIECE:
                self._read(self._rest + piece[:cut])
                self._rest = piece[cut:]
            else:
                self._rest += piece

    def end(self) -> Traffic:
        """What the whole log tells."""
        if self._rest:
            self._read(self._rest)
            self._rest = b""
        self._traffic.sort_asked()
        return self._traffic

    def _read(self, piece: bytes) -> None:
        traffic, found = self._traffic, USUAL.findall(piece)
        whole = piece.count(b"\n") + (not piece.endswith(b"\n"))
        if len(found) != whole or not _count(traffic, found):
            _count(traffic, _one_by_one(traffic.bad, piece, self.lines))
        self.lines += whole


def read_log(file: BinaryIO, told: Callable[[int], None] = lambda _: None) -> Traffic:
    """Reads a log from a file; `told` is called with how many lines are read."""
    reader = LogReader()
    while some := file.read(PIECE):
        reader.feed(some)
        told(reader.lines)
    return reader.end()


def _count(traffic: Traffic, found: Sequence[tuple[bytes, bytes, bytes]]) -> bool:
    """Counts requests (source, time, what was asked); False, and nothing counted, where a time is none."""
    if not found:
        return True
    sources, whens, asked = zip(*found, strict=True)
    times = [(_minute(when[:17], when[21:]), some) for when, some in Counter(whens).items()]
    known = [(minute, some) for minute, some in times if minute is not None]
    if len(known) < len(times):
        return False
    traffic.count(sources, known, asked)
    return True


def _one_by_one(bad: Bad, piece: bytes, before: int) -> list[tuple[bytes, bytes, bytes]]:
    """The requests of a piece in which not all lines are as usual; notes those that are none."""
    made = []
    for number, line in enumerate(piece.split(b"\n"), before + 1):
        found = LINE.match(line)
        if found and _minute(found[2][:17], found[2][21:]) is not None:
            made.append((found[1], found[2], found[3]))
        elif line.strip():
            bad.note(number, line)
    return made


@lru_cache(maxsize=4096)
def _minute(when: bytes, zone: bytes) -> int | None:
    """The minute of a time such as `26/Nov/2026:18:30`, `+0100`, since 1970; None where there is no such time."""
    month = MONTHS.get(when[3:6])
    if month is None:
        return None
    day, year, hour, minute = int(when[:2]), int(when[7:11]), int(when[12:14]), int(when[15:17])
    if not (1 <= day <= 31 and hour < 24 and minute < 60):
        return None
    offset = (int(zone[1:3]) * 60 + int(zone[3:5])) * (-1 if zone[:1] == b"-" else 1)
    return calendar.timegm((year, month, day, hour, minute, 0)) // BIN_S - offset


def _asked(what: bytes) -> tuple[str, str]:
    """The method and the path of what was asked, such as `GET /tiles/3?wet`."""
    method, _, asked = what.partition(b" ")
    return method.decode("ascii"), _path(asked)


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
    shares = [
        (source.decode("latin-1"), count / traffic.requests) for source, count in traffic.sources.most_common(HEAVY)
    ]
    return [(source, share) for source, share in shares if share >= 10 * mean and _is_address(source)]


def _is_address(text: str) -> bool:
    try:
        ip_address(text)
    except ValueError:
        return False
    return True
