"""What is handed over to those who build a plan: one sheet, and its parts as files."""

import datetime
import json
from collections.abc import Callable

from msgspec.structs import asdict

from northgate.engine.reports import drill_answer
from northgate.handover.sheet.building import builds
from northgate.handover.sheet.checks import checks_script
from northgate.handover.sheet.reaching import COLUMNS, needless_rules
from northgate.handover.sheet.records import zone_file
from northgate.handover.sheet.sheet import Section, Sheet, Table, routes_section, targets_table
from northgate.handover.sheet.written import as_csv, as_html, as_markdown, checklist
from northgate.plan import Plan

__all__ = ["EXPORTS", "MEDIA", "export"]


def _firewall_csv(sheet: Sheet) -> str:
    return as_csv(Table(COLUMNS, [tuple(str(getattr(one, column)) for column in COLUMNS) for one in sheet.needed]))


def _checks(sheet: Sheet) -> str:
    return checks_script(sheet.plan.title or sheet.plan.name, sheet.checks, sheet.by_hand)


def _json(sheet: Sheet) -> str:
    plan = sheet.plan
    document = {
        "plan": plan.model_dump(mode="json", by_alias=True, exclude_defaults=True),
        "steps": [{"words": one.words, "values": dict(one.values)} for one in builds(plan)],
        "firewall": [asdict(one) for one in sheet.needed],
        "needless": needless_rules(sheet.network),
        "records": zone_file(plan),
        "targets": [
            dict(zip(table.columns, row, strict=True)) for table in [targets_table(sheet.network)] for row in table.rows
        ],
        "drills": [drill_answer(run, with_utilisation=False).model_dump(mode="json") for run in sheet.runs],
        "losses": sheet.losses.model_dump(mode="json") if sheet.losses else None,
        "cost": sheet.cost.model_dump(mode="json"),
        "findings": [one.model_dump(mode="json") for one in sheet.findings],
        "checks": [asdict(one) for one in sheet.checks],
    }
    return json.dumps(document, indent=2, ensure_ascii=False, allow_nan=False) + "\n"


def _table(section: Section) -> str:
    return as_csv(section.table or Table((), ()))


EXPORTS: dict[str, Callable[[Sheet], str]] = {
    "dns-zone": lambda sheet: zone_file(sheet.plan),
    "firewall-csv": _firewall_csv,
    "targets-csv": lambda sheet: as_csv(targets_table(sheet.network)),
    "routes-csv": lambda sheet: _table(routes_section(sheet.plan)),
    "drills-csv": lambda sheet: _table(sheet.drills_section()),
    "losses-csv": lambda sheet: _table(sheet.losses_section(most=None)),
    "cost-csv": lambda sheet: _table(sheet.cost_section()),
    "findings-csv": lambda sheet: _table(sheet.findings_section()),
    "checklist": checklist,
    "checks": _checks,
    "markdown": as_markdown,
    "html": as_html,
    "json": _json,
}
# What each is, and the ending of its file.
MEDIA = {
    **{kind: ("text/csv", "csv") for kind in EXPORTS if kind.endswith("-csv")},
    "dns-zone": ("text/dns", "zone"), "checklist": ("text/markdown", "md"), "checks": ("text/x-shellscript", "sh"),
    "markdown": ("text/markdown", "md"), "html": ("text/html", "html"), "json": ("application/json", "json"),
}  # fmt: skip


def export(plan: Plan, kind: str, today: datetime.date) -> str:
    """A plan as one of `EXPORTS`; raises CannotRun where it cannot be run."""
    return EXPORTS[kind](Sheet(plan, today))
