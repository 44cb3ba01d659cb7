"""What becomes of requests: the causes of failure, what is served, and what is counted beside them; the mechanisms of
failure."""

from northgate.plan.models.drills import CAUSES

REFUSED, TIMED_OUT, OVERLOADED, NONE_HEALTHY, BLOCKED, BAD_STATUS, DEAD_FRONT, RESET = range(len(CAUSES))
# After the causes: what is served, and the time that this takes (share times seconds).
SERVED, WORK = len(CAUSES), len(CAUSES) + 1
# Besides: what of TIMED_OUT was answered, but too late; and the time that failing takes (share times seconds).
LATE, SPENT = len(CAUSES) + 2, len(CAUSES) + 3
# And of each cause what of it is a failed connect, after which a client may take the next address: UNMET + cause.
UNMET = len(CAUSES) + 4
KINDS = UNMET + len(CAUSES)
# The kinds that are causes of failure.
FAILS = slice(0, len(CAUSES))
# Failed connects that take the client's connect time-out, and those that are known at once.
QUIET, TURNED_AWAY = (TIMED_OUT, BLOCKED, DEAD_FRONT), (REFUSED, NONE_HEALTHY)
# Why requests fail: the target is bad and its verdict has not come; the front is dead; the answer is an old one; queues
# are full; nobody is in use; a firewall or route; the balancer itself says no; a connection was closed for being idle.
MECHANISMS = ("waiting", "dead_front", "old_answers", "overload", "none_healthy", "blocked", "by_rule", "idle")
# What a layer 7 balancer answers when it fails by itself.
STATUSES = {REFUSED: 502, NONE_HEALTHY: 503, OVERLOADED: 503, TIMED_OUT: 504}
