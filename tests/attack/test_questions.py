"""Requests that mean no good: whatever is asked, the answer is one that is documented, and never a failure within.

NORTHGATE_EXPLORE=1 (`make attack`) asks many more.
"""

import json
import random
from urllib.parse import quote

import pytest

from tests.support.exploring import EXPLORING
from tests.support.plans import plan_data
from tests.support.tally import answered

ROUNDS, EACH = (60, 12) if EXPLORING else (2, 6)
# What an answer may be besides what is documented for a question: who asks wrongly is told so.
ALWAYS = {404, 405, 413, 415, 421, 422}
TEXTS = [
    "", "tiles", "tiles-1", "ready", "web", "front", "fells-1", "walkers", "zone:fells-1", "x" * 5000, "\x00", "../..",
    "%00", "\u202e\u0085", "🌊" * 50, "-1", "nan", "1e999", "null", "[]", "{}", "a=b", "2000-01-01", "\ud7ff",
    "probes/ready/interval_s=2..30/2", "probes/ready/interval_s=1e-9..1e9/1e-9", "http://[",
    "https://www.beckwater.example/",
]  # fmt: skip
NUMBERS = [0, 1, -1, 0.5, 1e-9, 1e7, 1e308, 2**31, 2**63, 2**64, 10**400, "nan", "inf", "-inf", "x", ""]
DEEP = "[" * 900 + "]" * 900
GIVEN = [
    [{"op": "remove", "path": ""}], [{"op": "replace", "path": "/name", "value": "\x00"}],
    [{"op": "add", "path": "/probes/-", "value": {"name": "x", "interval_s": 1e308}}],
    [{"op": "copy", "from": "/fleets", "path": "/fleets/0/zones"}] * 18,
    {"faults": [{"zone": "fells-1"}] * 20}, {"faults": [{"slow": "tiles-1", "factor": 1e308}]},
    {"url": "http://[", "times": 10_000}, {"url": "https://www.beckwater.example/", "vary": "source"},
    {"name": "n" * 200}, {"revision": 2**70, "reason": "x"}, {"who": "\x1b[31m", "why": "y"}, plan_data(),
]  # fmt: skip
BODIES = [
    "", "null", "[]", "{}", "NaN", '{"a": NaN}', "1e999", DEEP, '{"a":' * 900 + "1" + "}" * 900, '"\\ud800"',
    "\ufeff{}", "- &a [*a]", "a: &x [1]\nb: *x", *map(json.dumps, GIVEN),
]  # fmt: skip
KINDS = ["application/json", "text/plain", "application/octet-stream", "application/x-www-form-urlencoded", "nonsense"]


def value(chance, name, schema, key):
    """Something for a parameter: now and then what it wants, else anything."""
    if name == "key":
        return chance.choice([key, key, key, key, "none", chance.choice(TEXTS)])
    known = {"drill": "lose", "kind": "html", "code": "empty", "revision": 1}
    if name in known and chance.random() < 0.5:
        return known[name]
    if chance.random() < 0.3:
        return chance.choice(TEXTS)
    numeric = any(one.get("type") in ("integer", "number") for one in [schema, *schema.get("anyOf", [])])
    enum = [each for one in [schema, *schema.get("anyOf", [])] for each in one.get("enum", [])]
    return chance.choice(enum or (NUMBERS if numeric else TEXTS))


def question(chance, path, operation, key):
    """A request of an operation: its address, headers and body."""
    query = []
    for parameter in operation.get("parameters", []):
        given = str(value(chance, parameter["name"], parameter.get("schema", {}), key))
        if parameter["in"] == "path":
            path = path.replace(f"{{{parameter['name']}}}", quote(given, safe="") or "-")
        elif parameter["in"] == "query" and (parameter.get("required") or chance.random() < 0.6):
            query.append(f"{parameter['name']}={quote(given, safe='')}")
    headers = {"if-match": chance.choice(['"1"', '"2"', '"999999999999"', "*", "x", ""])}
    body = None
    if "requestBody" in operation:
        body = chance.choice(BODIES).encode("utf-8", "surrogatepass")
        headers["content-type"] = chance.choice([KINDS[0], KINDS[0], KINDS[0], *KINDS])
    return path + ("?" + "&".join(query) if query else ""), headers, body


@pytest.mark.parametrize("seed", range(ROUNDS))
def test_every_answer_is_documented(asked, seed):
    client, key = asked
    chance = random.Random(seed)
    every = [
        (method, path, operation)
        for path, methods in client.get("/openapi.json").json()["paths"].items()
        for method, operation in methods.items()
    ]
    answers = []
    for method, path, operation in every:
        documented = {int(one) for one in operation["responses"]} | ALWAYS
        for _ in range(EACH):
            address, headers, body = question(chance, path, operation, key)
            answer = client.request(method, address, headers=headers, content=body)
            answers.append(answer)
            assert answer.status_code in documented, (method, address, headers, body, answer.text[:300])
            assert answer.headers["x-content-type-options"] == "nosniff"
    answered("questions", answers)
    # After all that the plans are listed, and edited, as ever.
    assert client.get("/api/plans").status_code == 200
