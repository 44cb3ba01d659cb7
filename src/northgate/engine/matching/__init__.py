"""Which listener and rule takes a request, and who can reach whom."""

from northgate.engine.matching.reach import Check, End, GoneRules, Remedy, checks, passes, seen_source
from northgate.engine.matching.requests import (
    CONNECT,
    Request,
    asked_request,
    plain_host,
    redirected,
    request_for,
    url_of,
)
from northgate.engine.matching.rules import (
    OTHERWISE,
    certificate_covers,
    from_any,
    host_matches,
    listener_for,
    matches,
    page_status,
    path_matches,
    rule_for,
)
from northgate.engine.matching.shadows import shadow_of
from northgate.engine.matching.spans import Range, is_address, span_of, within

__all__ = [
    "CONNECT",
    "OTHERWISE",
    "Check",
    "End",
    "GoneRules",
    "Range",
    "Remedy",
    "Request",
    "asked_request",
    "certificate_covers",
    "checks",
    "from_any",
    "host_matches",
    "is_address",
    "listener_for",
    "matches",
    "page_status",
    "passes",
    "path_matches",
    "plain_host",
    "redirected",
    "request_for",
    "rule_for",
    "seen_source",
    "shadow_of",
    "span_of",
    "url_of",
    "within",
]
