"""What is handed over to those who build a plan, gathered: sections of words and tables."""

import datetime
from collections.abc import Sequence
from functools import cached_property

from msgspec import Struct

from northgate.cost import CostAnswer, cost
from northgate.engine.base import CannotRun
from northgate.engine.drill import DrillRun, run_drill, undisturbed
from northgate.engine.network import Network, compile_network
from northgate.engine.reports import board_state, drill_answer
from northgate.engine.solver import Flow
from northgate.handover.sheet.building import Build, builds
from northgate.handover.sheet.checks import FirstCheck, failing_checks, first_checks
from northgate.handover.sheet.picture import board_picture
from northgate.handover.sheet.reaching import COLUMNS, Needed, needed_rules, needless_rules
from northgate.handover.sheet.records import zone_file
from northgate.handover.terminal import in_unit
from northgate.losses import LossesAnswer, loss_table
from northgate.plan import Plan
from northgate.review import FindingAnswer, review

RANKED = 12
Row = tuple[str, ...]


class Table(Struct, frozen=True):
    """A table: what its columns are called, and its rows."""

    columns: Row
    rows: Sequence[Row]


class Section(Struct, frozen=True):
    """A part of the sheet: lines of words, a table, lines to tick off (each with its values), and text as it stands."""

    title: str
    lines: Sequence[str] = ()
    table: Table | None = None
    steps: Sequence[Build] = ()
    code: str = ""


class Sheet(Struct, frozen=True, dict=True):
    """Everything about a plan that is to be built; what takes long is computed once, when it is first asked for."""

    plan: Plan
    today: datetime.date

    @cached_property
    def network(self) -> Network:
        """The compiled plan; raises CannotRun."""
        return compile_network(self.plan)

    @cached_property
    def flow(self) -> Flow:
        """The flow while all is well."""
        return undisturbed(self.network)

    @cached_property
    def runs(self) -> list[DrillRun]:
        """The plan's drills."""
        return [run_drill(self.network, drill) for drill in self.plan.drills]

    @cached_property
    def losses(self) -> LossesAnswer | None:
        """The table of losses; None where it cannot be computed."""
        try:
            return loss_table(self.plan)
        except CannotRun:
            return None

    @cached_property
    def findings(self) -> list[FindingAnswer]:
        """What the review finds."""
        rows = [row for row in self.losses.losses if len(row.parts) == 1] if self.losses else None
        return review(self.plan, self.today, rows).findings

    @cached_property
    def cost(self) -> CostAnswer:
        """What it costs."""
        return cost(self.plan)

    @property
    def needed(self) -> list[Needed]:
        """The connections that the plan needs."""
        return needed_rules(self.network)

    @property
    def checks(self) -> list[FirstCheck]:
        """The checks for the first day."""
        return first_checks(self.flow)

    @property
    def by_hand(self) -> list[list[str]]:
        """What is to be done by hand on the first day, a drill each."""
        return [failing_checks(run) for run in self.runs]

    @property
    def picture(self) -> str:
        """The board, as SVG."""
        return board_picture(self.network, board_state(self.flow))

    def sections(self) -> list[Section]:
        """The sheet from top to bottom."""
        return [
            self._summary(),
            Section("Build, in this order", steps=builds(self.plan)),
            _for_good(self.plan),
            self._firewalls(),
            routes_section(self.plan),
            Section("DNS records", code=zone_file(self.plan)),
            self._targets(),
            self.drills_section(),
            self.losses_section(),
            self.cost_section(),
            self.findings_section(),
            _assumptions(self.plan),
            self._first_day(),
        ]

    def _summary(self) -> Section:
        plan, flow = self.plan, self.flow
        asked = flow.served + float(flow.cause_rps.sum())
        lines = [line for line in plan.notes.splitlines() if line.strip()]
        lines.append(
            f"{asked:,.0f} requests/s come to {len(plan.balancers)} balancers and {len(plan.machines)} machines in "
            f"{sum(len(region.zones) for region in plan.regions)} zones; {flow.served:,.0f}/s are served."
        )
        return Section("What it is", lines)

    def _firewalls(self) -> Section:
        rows = [tuple(str(getattr(one, column)) for column in COLUMNS) for one in self.needed]
        missing = sum(one.has == "" for one in self.needed)
        needless = needless_rules(self.network)
        lines = [
            f"{missing} of {len(rows)} connections are let in by no rule." if missing else "Every connection is let in."
        ]
        if needless:
            lines.append(f"Needed by nothing: rule {', '.join(needless)}.")
        return Section("Firewall rules that it needs", lines, Table(COLUMNS, rows))

    def _targets(self) -> Section:
        return Section("Targets", table=targets_table(self.network))

    def drills_section(self) -> Section:
        """What each drill comes to."""
        rows = []
        for run in self.runs:
            answer = drill_answer(run, with_utilisation=False)
            held = f"{sum(one.held for one in answer.expect)} of {len(answer.expect)}" if answer.expect else "–"
            readings = (
                in_unit("failed", answer.readings.failed),
                in_unit("worst_blind_s", answer.readings.worst_blind_s),
            )
            rows.append((run.drill.title or run.drill.name, answer.summary, *readings, held))
        return Section(
            "Drills",
            [] if rows else ["None is written."],
            Table(("drill", "what it comes to", "failed", "worst blind", "held"), rows) if rows else None,
        )

    def losses_section(self, most: int | None = RANKED) -> Section:
        """What each loss costs, the worst first: so many of them, or all."""
        table = self.losses
        if table is None:
            return Section("Losses", ["They cannot be computed."])
        rows = [
            (
                one.words,
                f"{one.failed_requests:,.0f}",
                f"{one.blind_s:.0f} s",
                f"{one.settled_s:.0f} s" if one.settled else "never",
                f"{one.unserved_share:.1%}",
            )
            for one in table.losses[:most]
        ]
        year = (
            f"Expected in a year: {table.year.failed_requests:,.0f} failed requests, availability "
            f"{table.year.availability:.5%}."
        )
        return Section(
            "Losses, the worst first",
            [year],
            Table(("lost", "failed", "noticed after", "settled after", "not served then"), rows),
        )

    def cost_section(self) -> Section:
        """What each part costs a month."""
        answer = self.cost
        rows = [
            (one.about, one.kind, f"{one.amount:,.1f}", one.price, f"{one.month:,.2f}")
            for one in answer.parts
            if one.amount > 0
        ]
        lines = [
            f"{answer.month:,.2f} a month, {answer.hour:,.2f} an hour, {answer.idle_month:,.2f} a month when idle."
        ]
        if answer.missing:
            lines.append(
                f"Prices that are missing, so that what they are of is not counted: {', '.join(answer.missing)}."
            )
        return Section("Cost", lines, Table(("part", "kind", "amount", "price", "a month"), rows))

    def findings_section(self) -> Section:
        """What is wrong, and not accepted."""
        found = [one for one in self.findings if one.because is None]
        rows = [(one.severity, one.about, one.message, one.remedy) for one in found]
        return Section(
            "Open findings",
            [] if rows else ["None."],
            Table(("severity", "about", "what", "remedy"), rows) if rows else None,
        )

    def _first_day(self) -> Section:
        rows = [(one.words, " or ".join(one.expected), " ".join(one.command)) for one in self.checks]
        hand = [". ".join(lines) + "." for lines in self.by_hand]
        return Section(
            "Checks for the first day",
            [f"By hand: {one}" for one in hand],
            Table(("what must be so", "prints", "check"), rows),
        )


def _for_good(plan: Plan) -> Section:
    rows = [(one,) for one in plan.platform.replace_only]
    lines = (
        ["To change any of these, the thing is built anew beside the old."]
        if rows
        else ["Nothing: all can be changed in place."]
    )
    return Section("What cannot be changed later", lines, Table(("setting",), rows) if rows else None)


def routes_section(plan: Plan) -> Section:
    """Networks, and the routes between them."""
    rows = [
        (
            network.name,
            network.region,
            network.cidr,
            ", ".join(network.peers) or "none",
            ", ".join(f"{one.name} {one.cidr}" for one in network.subnets),
        )
        for network in plan.networks
    ]
    return Section(
        "Networks and routes",
        [] if rows else ["No network is drawn."],
        Table(("network", "region", "range", "routes to", "subnets"), rows) if rows else None,
    )


def _assumptions(plan: Plan) -> Section:
    rows = [
        (one.name, f"{one.rps:,.0f}/s", one.area or "–", ", ".join(dict.fromkeys(call.url for call in one.calls)))
        for one in plan.clients
    ]
    left = [f"Left as it is: {one.code} of {one.about}, because {one.because}." for one in plan.accepted]
    rates = "Loads, service times and capacities are those of the plan; nothing was measured."
    return Section("What is assumed", [rates, *left], Table(("clients", "rate", "area", "calls"), rows))


def targets_table(network: Network) -> Table:
    """Every target of every group, with the address and port that it is asked at."""
    members, plan, book = network.members, network.plan, network.book
    rows = []
    for member in range(len(members.group)):
        machine, group = int(members.machine[member]), plan.target_groups[int(members.group[member])]
        name = network.machines.names[machine]
        zone = network.zones[int(network.machines.zone[machine])]
        rows.append(
            (
                group.name,
                name,
                zone,
                book.instances.get(name) or "",
                str(int(members.port[member])),
                f"{members.weight[member]:g}",
                group.probe or "",
            )
        )
    return Table(("group", "target", "zone", "address", "port", "weight", "probe"), rows)
