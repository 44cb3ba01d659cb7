"""The sheet as text: Markdown, a page that prints well, and tables as CSV that no spreadsheet takes for formulas."""

import csv
import io
from collections.abc import Sequence
from html import escape

from northgate.handover.sheet.building import Build, builds
from northgate.handover.sheet.sheet import Section, Sheet, Table

# A cell that begins so is a formula to a spreadsheet.
FORMULAS = ("=", "+", "-", "@", "\t", "\r")

# No word of a table that is shorter is broken.
UNBROKEN = 24

STYLE = """
  @page { size: A4; margin: 16mm 14mm; }
  :root { color-scheme: light; }
  body { font: 13px/1.45 "Public Sans", "Segoe UI", sans-serif; color: #1B2733; background: #F7F4EC; }
  main { max-width: 62rem; margin: 2rem auto; padding: 0 1.5rem; }
  h1 { font-size: 1.7rem; margin: 0 0 .2rem; }
  h2 { font-size: 1.1rem; border-bottom: 1px solid #1B2733; margin: 2rem 0 .6rem; padding-bottom: .2rem; }
  h2 { break-after: avoid; }
  table { border-collapse: collapse; width: 100%; margin: .5rem 0; font-variant-numeric: tabular-nums; }
  th, td { text-align: left; vertical-align: top; padding: .22rem .6rem .22rem 0; }
  th, td { border-bottom: 1px solid #DCD5C5; }
  td.long { overflow-wrap: anywhere; }
  th { font-weight: 600; color: #5B6671; }
  tr { break-inside: avoid; }
  pre { font: 11px/1.5 "JetBrains Mono", monospace; white-space: pre-wrap; }
  pre { background: #FFFDF8; border: 1px solid #DCD5C5; padding: .8rem; }
  ol { padding: 0; list-style: none; columns: 18rem; column-gap: 2rem; }
  li { margin: .35rem 0; break-inside: avoid; }
  li > b::before { content: "☐  "; }
  dl { display: grid; grid-template-columns: max-content 1fr; gap: 0 1rem; margin: .1rem 0 .4rem 1.5rem; }
  dt { color: #5B6671; }
  dd { margin: 0; overflow-wrap: anywhere; }
  svg { width: 100%; height: auto; }
  .soft { color: #5B6671; }
  @media print {
    body, pre { background: none; }
    body { font-size: 10.5px; }
    main { margin: 0; padding: 0; max-width: none; }
  }
"""


def as_markdown(sheet: Sheet) -> str:
    """The sheet as Markdown; what the plan says is never read as markup."""
    lines = [f"# {_plain(sheet.plan.title or sheet.plan.name)}", "", f"To be built, as of {sheet.today}.", ""]
    for section in sheet.sections():
        lines += [f"## {section.title}", "", *_markdown_section(section)]
    return "\n".join(lines).rstrip() + "\n"


def checklist(sheet: Sheet) -> str:
    """The steps in build order alone, as a Markdown list to tick off."""
    head = [f"# Build {_plain(sheet.plan.title or sheet.plan.name)}", ""]
    return "\n".join([*head, *_ticks(builds(sheet.plan))]).rstrip() + "\n"


def _markdown_section(section: Section) -> list[str]:
    lines = [part for line in section.lines for part in (_plain(line), "")]
    lines += _ticks(section.steps)
    if section.table:
        columns, rows = section.table.columns, section.table.rows
        lines += [f"| {' | '.join(columns)} |", f"| {' | '.join('---' for _ in columns)} |"]
        lines += [f"| {' | '.join(_plain(cell) for cell in row)} |" for row in rows]
        lines.append("")
    if section.code:
        lines += ["```", section.code.replace("```", "'''").rstrip(), "```", ""]
    return lines


def _ticks(steps: Sequence[Build]) -> list[str]:
    lines = [
        line
        for step in steps
        for line in (
            f"- [ ] {_plain(step.words)}",
            *(f"  - {_plain(name)}: {_plain(value)}" for name, value in step.values),
        )
    ]
    return [*lines, ""] if lines else []


def _plain(text: str) -> str:
    """Text of a plan that must not be read as markup."""
    return "".join(f"\\{one}" if one in "\\`*_{}[]<>#|" else one for one in " ".join(text.split()))


def as_html(sheet: Sheet) -> str:
    """The sheet as one page, with the board's picture; it loads nothing from elsewhere."""
    title = escape(sheet.plan.title or sheet.plan.name)
    parts = [
        '<!doctype html>\n<html lang="en">\n<head>\n<meta charset="utf-8">\n'
        f'<meta name="viewport" content="width=device-width, initial-scale=1">\n<title>{title}: to be built</title>\n'
        f"<style>{STYLE}</style>\n</head>\n<body>\n<main>\n<h1>{title}</h1>\n"
        f'<p class="soft">To be built, as of {sheet.today}.</p>\n{sheet.picture}'
    ]
    for section in sheet.sections():
        parts.append(f"<section>\n<h2>{escape(section.title)}</h2>")
        parts += [f"<p>{escape(line)}</p>" for line in section.lines]
        if section.steps:
            parts += ["<ol>", *map(_html_step, section.steps), "</ol>"]
        if section.table:
            parts.append(_html_table(section.table))
        if section.code:
            parts.append(f"<pre>{escape(section.code)}</pre>")
        parts.append("</section>")
    return "\n".join([*parts, "</main>\n</body>\n</html>\n"])


def _html_step(step: Build) -> str:
    values = "".join(f"<dt>{escape(name)}</dt><dd>{escape(value)}</dd>" for name, value in step.values)
    return f"<li><b>{escape(step.words)}</b>" + (f"<dl>{values}</dl>" if values else "") + "</li>"


def _html_table(table: Table) -> str:
    head = "".join(f"<th>{escape(one)}</th>" for one in table.columns)
    rows = "\n".join(f"<tr>{''.join(map(_html_cell, row))}</tr>" for row in table.rows)
    return f"<table>\n<thead><tr>{head}</tr></thead>\n<tbody>\n{rows}\n</tbody>\n</table>"


def _html_cell(cell: str) -> str:
    """A long word, such as a URL, is broken where it must be; numbers and short words never are."""
    longest = max(map(len, cell.split()), default=0)
    return f"<td{' class=long' if longest > UNBROKEN else ''}>{escape(cell)}</td>"


def as_csv(table: Table) -> str:
    """A table as CSV (RFC 4180); a cell that a spreadsheet would compute begins with an apostrophe."""
    text = io.StringIO()
    writer = csv.writer(text)
    writer.writerow(table.columns)
    writer.writerows([[f"'{cell}" if cell.startswith(FORMULAS) else cell for cell in row] for row in table.rows])
    return text.getvalue()
