"""Checks for the first day: commands, and what each must print, computed from the plan."""

import shlex
from collections.abc import Iterator
from urllib.parse import urlsplit

from msgspec import Struct

from northgate.engine.drill import DrillRun
from northgate.engine.network import Network
from northgate.engine.solver import Flow
from northgate.engine.trace import Question, trace
from northgate.plan.models.addressing import AddressBook

SCRIPT = """#!/bin/sh
# {title}: checks for the first day. Each says what must be so, and whether it held.
# Needs dig, curl, openssl and nc. What has to be done by hand stands at the end as comments.
held=0
failed=0

# check WORDS EXPECTED COMMAND ...: the command's last line must be one of the expected words.
check() {{
  words=$1
  expected=$2
  shift 2
  got=$("$@" 2>&1 | tail -n 1)
  for one in $expected; do
    if [ "$got" = "$one" ]; then
      held=$((held + 1))
      printf 'held      %s: %s\\n' "$words" "$got"
      return
    fi
  done
  failed=$((failed + 1))
  printf 'NOT HELD  %s: expected %s, got %s\\n' "$words" "$expected" "$got"
}}

answer() {{ dig +short +time=3 +tries=1 "$1" "$2" | sort | head -n 1; }}
status() {{ curl --silent --show-error --output /dev/null --max-time 15 --write-out '%{{http_code}}' "$@"; }}
connects() {{ nc -z -w 3 "$1" "$2" && echo yes || echo no; }}
certified() {{
  if openssl s_client -connect "$1" -servername "$2" </dev/null 2>/dev/null |
    openssl x509 -noout -checkhost "$2" -checkend 0 2>/dev/null | grep -q 'does match'; then echo yes; else echo no; fi
}}

{checks}

printf '%d held, %d not held\\n' "$held" "$failed"
{by_hand}
[ "$failed" -eq 0 ]
"""


class FirstCheck(Struct, frozen=True):
    """One check: what must be so, the words of which one must be printed, and the command, as the script calls it."""

    words: str
    expected: tuple[str, ...]
    command: tuple[str, ...]


def first_checks(flow: Flow) -> list[FirstCheck]:
    """Names, ports, certificates and calls: what each must give while all is well."""
    network = flow.network
    return [*_names(network), *_ports(network), *_calls(flow)]


def _names(network: Network) -> Iterator[FirstCheck]:
    book, plan = AddressBook(network.plan), network.plan
    for entry in plan.names:
        told = [
            address
            for answer in entry.answers
            for address in book.balancers.get(answer.balancer or "", [answer.address])
        ]
        for kind, mine in (("A", "."), ("AAAA", ":")):
            addresses = tuple(dict.fromkeys(one for one in told if one and mine in one))
            if addresses:
                words = f"{entry.name} answers {'one of its addresses' if len(addresses) > 1 else 'its address'}"
                yield FirstCheck(words, addresses, ("answer", entry.name, kind))


def _ports(network: Network) -> Iterator[FirstCheck]:
    book = AddressBook(network.plan)
    hosts = {
        (answer.balancer, entry.name) for entry in network.plan.names for answer in entry.answers if answer.balancer
    }
    for balancer in network.plan.balancers:
        if balancer.exposure != "public":
            continue
        for address in filter(None, book.balancers[balancer.name]):
            for listener in balancer.listeners:
                if listener.protocol == "udp":
                    continue
                words = f"{balancer.name} takes connections on {address} port {listener.port}"
                yield FirstCheck(words, ("yes",), ("connects", address, str(listener.port)))
                for host in sorted(name for owner, name in hosts if owner == balancer.name):
                    if listener.certificate:
                        words = f"the certificate on {address} port {listener.port} is valid for {host}"
                        yield FirstCheck(words, ("yes",), ("certified", f"{address}:{listener.port}", host))


def _calls(flow: Flow) -> Iterator[FirstCheck]:
    seen = set[tuple[str, str]]()
    for client in flow.network.plan.clients:
        for call in client.calls:
            if urlsplit(call.url).scheme not in ("http", "https") or (call.method, call.url) in seen:
                continue
            seen.add((call.method, call.url))
            outcome = trace(
                flow, Question(call.url, client=client.name, method=call.method, headers=call.headers)
            ).outcome
            if outcome.status is None:
                continue
            headers = [part for name, value in call.headers.items() for part in ("--header", f"{name}: {value}")]
            method = [] if call.method == "GET" else ["--request", call.method]
            words = f"{call.method} {call.url} is answered"
            yield FirstCheck(words, (str(outcome.status),), ("status", *method, *headers, call.url))


def failing_checks(run: DrillRun) -> list[str]:
    """What to do by hand for a drill, and what must be seen then."""
    worst: dict[str, float] = {}
    for row in run.blind:
        if row.change == "down" and row.bounds:
            name = run.network.machines.names[int(run.network.pairs.machine[row.pair])]
            worst[name] = max(worst.get(name, 0.0), row.bounds.latest_s)
    script = "; ".join(
        f"at {step.at_s:g} s {step.kind.replace('_', ' ')}"
        + (f" {part.words}" if (part := step.fail or step.restore) else "")
        for step in run.drill.steps
    )
    lines = [f"{run.drill.title or run.drill.name}: {script}"]
    if worst:
        lines.append(f"every loss is noticed after at most {max(worst.values()):.1f} s")
    lines.append(
        f"about {run.readings.failed_share:.2%} of requests fail, and all has settled {run.readings.settled_s:.0f} s "
        "after the last step"
    )
    return lines


def checks_script(title: str, checks: list[FirstCheck], by_hand: list[list[str]]) -> str:
    """A shell script that runs all checks; exit status 1 when any did not hold."""
    calls = [
        " ".join(["check", shlex.quote(one.words), shlex.quote(" ".join(one.expected)), *map(shlex.quote, one.command)])
        for one in checks
    ]
    hand = [
        line
        for lines in by_hand
        for line in (f"# By hand: {_flat(lines[0])}", *(f"#   {_flat(one)}" for one in lines[1:]))
    ]
    return SCRIPT.format(title=_flat(title), checks="\n".join(calls), by_hand="\n".join(hand))


def _flat(text: str) -> str:
    """Text on one line, so that a comment stays one."""
    return " ".join(text.split())
