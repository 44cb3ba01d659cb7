"""Rules that take all that a later one could match."""

from collections.abc import Callable

from northgate.engine.matching.rules import host_matches
from northgate.plan.models.balancers import Listener, When


def shadow_of(listener: Listener, index: int) -> str | None:
    """The earliest rule before this one that matches everything this one does; None when there is none."""
    when = listener.rules[index].when
    return next((rule.name for rule in listener.rules[:index] if covers(rule.when, when)), None)


def covers(wide: When, narrow: When) -> bool:
    """Whether every request that `narrow` matches is matched by `wide` too."""
    return (
        _covers_words(wide.host, narrow.host, host_matches)
        and _covers_words(wide.path, narrow.path, _path_covers)
        and _covers_words(wide.method, narrow.method, str.__eq__)
        and _covers_words(wide.source, narrow.source, str.__eq__)
        and _covers_values(wide.header, narrow.header)
        and _covers_values(wide.query, narrow.query)
    )


def _path_covers(wide: str, narrow: str) -> bool:
    return narrow.startswith(wide[:-1]) if wide.endswith("*") else wide == narrow


def _covers_words(wide: list[str] | None, narrow: list[str] | None, fits: Callable[[str, str], bool]) -> bool:
    if wide is None:
        return True
    return narrow is not None and all(any(one == other or fits(one, other) for one in wide) for other in narrow)


def _covers_values(wide: dict[str, list[str]] | None, narrow: dict[str, list[str]] | None) -> bool:
    return all(
        name in (narrow or {}) and set((narrow or {})[name]) <= set(values) for name, values in (wide or {}).items()
    )
