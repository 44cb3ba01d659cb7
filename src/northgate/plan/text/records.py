"""Which of a name's answers records can hold: what is told while all is well, as a zone file says it."""

from northgate.plan.models.traffic import DnsEntry


def told_now(entry: DnsEntry) -> list[bool]:
    """Of each answer, whether it is told while all is well, to whomever: in order, only the first, and the second where
    it gets a share."""
    return [
        entry.choose != "order" or place == 0 or (place == 1 and entry.standby_share > 0)
        for place in range(len(entry.answers))
    ]


def recorded(entry: DnsEntry) -> list[bool]:
    """Of each answer, whether a zone file holds it: what is told now, but an alias stands alone at its name (RFC 1034,
    section 3.6.2), so that hosts give way to addresses, and to the first of them."""
    told = told_now(entry)
    hosts = [place for place, answer in enumerate(entry.answers) if told[place] and answer.host]
    kept = hosts[:1] if len(hosts) == sum(told) else []
    return [now and (place not in hosts or place in kept) for place, now in enumerate(told)]
