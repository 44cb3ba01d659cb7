"""Zone files become names."""

import re
from typing import Any

import dns.exception
import dns.rdatatype
import dns.zone

from northgate.intake.bad import Bad
from northgate.intake.taken import TakenIn, called, taken
from northgate.plan import Plan, PlanError, Problem
from northgate.plan.models.addressing import AddressBook
from northgate.plan.models.traffic import Answer, DnsEntry
from northgate.plan.text.records import recorded

SOA = re.compile(r"^[^\n;]*\sSOA\s[^(\n]*(\([^)]*\))?[^\n]*\n", re.MULTILINE | re.IGNORECASE)


def names_of(text: str, plan: Plan) -> TakenIn:
    """The addresses and aliases of a zone file (RFC 1035) become names; those of the plan's balancers and
    instances lead there. What the plan knows of a name and no file can say, such as its probe, stays."""
    # Names may lie anywhere, so the root is the origin; there no other start of authority may stand.
    text = SOA.sub("\n", text)
    try:
        zone = dns.zone.from_text(text, origin=".", relativize=False, check_origin=False)
    except (dns.exception.DNSException, ValueError) as error:
        raise PlanError([Problem("", f"is no zone file: {error}")]) from error
    ends, entries, bad = _Ends(plan), dict[str, dict[str, Any]](), Bad()
    for number, (owner, ttl, rdata) in enumerate(zone.iterate_rdatas(), 1):
        name = owner.to_text(omit_final_dot=True).lower()
        if rdata.rdtype in (dns.rdatatype.A, dns.rdatatype.AAAA):
            answer = ends.at(rdata.to_text())
        elif rdata.rdtype == dns.rdatatype.CNAME:
            answer = {"host": called(rdata.to_text())}
        else:
            if rdata.rdtype not in (dns.rdatatype.SOA, dns.rdatatype.NS):
                bad.note(number, f"{name} {dns.rdatatype.to_text(rdata.rdtype)}", "only A, AAAA and CNAME become names")
            continue
        entry = entries.setdefault(name, {"name": name, "ttl_s": ttl, "answers": []})
        if answer not in entry["answers"]:
            entry["answers"].append(answer)
    if not entries:
        raise PlanError([Problem("", "has no address and no alias")])
    was = {called(one.name): one for one in plan.names}
    made = [_name(entry, was.get(name), ends) for name, entry in entries.items()]
    fresh, known = [one for one in made if one], sum(name in was for name in entries)
    same, notes = len(made) - len(fresh), list[str]()
    if known > same:
        notes.append(f"{known - same} of them were in the plan before, and answer as in the file now")
    if same:
        notes.append(f"{same} in the file answer so already")
    return taken(plan, "names", fresh, len(zone.nodes), bad, notes)


class _Ends:
    """Where the addresses of a plan lead."""

    def __init__(self, plan: Plan) -> None:
        self._balancers = {address: name for address, (name, _) in AddressBook(plan).owner_balancer.items()}
        self._instances = {one.public_address: one.name for one in plan.instances if one.public_address}

    def at(self, address: str) -> dict[str, Any]:
        """The answer that leads to an address."""
        if address in self._balancers:
            return {"balancer": self._balancers[address]}
        return {"instance": self._instances[address]} if address in self._instances else {"address": address}

    def of(self, answer: Answer) -> dict[str, Any]:
        """An answer as a file would bring it."""
        if answer.host:
            return {"host": called(answer.host)}
        if answer.address:
            return self.at(answer.address)
        return answer.model_dump(include={"balancer", "instance"}, exclude_none=True)


def _name(entry: dict[str, Any], was: DnsEntry | None, ends: _Ends) -> dict[str, Any] | None:
    """A name as a file has it, with what the plan knows of it besides; None where the plan says the same."""
    answers, usual = entry["answers"], "all" if len(entry["answers"]) > 1 else "order"
    if was is None:
        return {**entry, "choose": usual}
    known = was.model_dump(mode="json", by_alias=True)
    now = [ends.of(one) for one, told in zip(was.answers, recorded(was), strict=True) if told]
    if all(one in answers for one in now) and all(one in now for one in answers):
        return {**known, "ttl_s": entry["ttl_s"]} if round(was.ttl_s) != entry["ttl_s"] else None
    kept = [(ends.of(one), said) for one, said in zip(was.answers, known["answers"], strict=True)]
    told = [next((said for end, said in kept if end == one), one) for one in answers]
    choose = usual if was.choose == "order" else was.choose
    return {**known, "ttl_s": entry["ttl_s"], "answers": told, "choose": choose, "standby_share": 0}
