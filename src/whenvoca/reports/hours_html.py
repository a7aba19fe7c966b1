"""A report as a page of its own: figures, tables that can be sorted, bars; nothing fetched, ready to print."""

from __future__ import annotations

from collections.abc import Sequence
from html import escape
from zoneinfo import ZoneInfo

from whenvoca.reports.hours import COMPARED, HoursRow, HoursTable, Report
from whenvoca.reports.hours_words import (
    SHARED_NOTE,
    figure_of,
    hours_of,
    is_dated,
    is_timed,
    label_of,
    said_figure,
    said_left_out,
    said_period,
)

GENERATOR = "Whenvoca report"  # by which a page of ours is known
_NAMES = {"count": "events", "called-off": "called off"}
_STYLE = """
:root { color-scheme: light dark; --ink: #1d2730; --quiet: #5b6873; --line: #d9dfe4; --paper: #fff; --bar: #2f6f8f;
  font: 16px/1.45 system-ui, "DejaVu Sans", sans-serif; }
@media (prefers-color-scheme: dark) { :root { --ink: #e4e9ed; --quiet: #9aa7b2; --line: #36424c; --paper: #161c21;
  --bar: #6fb3d0; } }
body { margin: 0 auto; max-width: 62rem; padding: 2rem 1.5rem 3rem; color: var(--ink); background: var(--paper); }
h1 { font-size: 1.5rem; margin: 0; } .quiet { color: var(--quiet); margin: .2rem 0 0; }
.figures { display: flex; gap: 3rem; margin: 1.6rem 0 .6rem; padding: 0; list-style: none; }
.figures b { display: block; font-size: 1.9rem; font-weight: 600; line-height: 1.2;
  font-variant-numeric: tabular-nums; }
h2 { font-size: 1.05rem; margin: 2rem 0 .4rem; }
table { border-collapse: collapse; width: 100%; }
th, td { text-align: left; padding: .28rem .9rem .28rem 0; border-bottom: 1px solid var(--line); vertical-align: top; }
td:first-child { min-width: 9.5rem; }
th { color: var(--quiet); font-weight: 500; white-space: nowrap; }
th button { font: inherit; color: inherit; background: none; border: 0; padding: 0; cursor: pointer; }
th button:focus-visible { outline: 2px solid var(--bar); outline-offset: 2px; }
.number { width: 6rem; text-align: right; font-variant-numeric: tabular-nums; white-space: nowrap; }
.bar { width: 34%; min-width: 5rem; padding-right: 0; }
.bar svg { display: block; width: 100%; height: .8rem; margin-top: .32rem; }
.wide .number { width: 4.5rem; } .wide .bar { width: 14%; }
.bar rect { fill: var(--bar); }
@media (max-width: 40rem) { .figures { gap: 1.4rem; } .bar { display: none; } }
@media print { body { max-width: none; padding: 0; } table { page-break-inside: avoid; } }
"""
_SCRIPT = """
for (const button of document.querySelectorAll("th button")) button.addEventListener("click", () => {
  const head = button.parentElement, table = head.closest("table"), at = [...head.parentElement.children].indexOf(head);
  const up = head.getAttribute("aria-sort") !== "ascending";
  for (const each of head.parentElement.children) each.removeAttribute("aria-sort");
  head.setAttribute("aria-sort", up ? "ascending" : "descending");
  const key = row => row.children[at].dataset.key ?? row.children[at].textContent;
  const rows = [...table.tBodies[0].rows].sort((a, b) =>
    (isNaN(key(a)) || isNaN(key(b)) ? key(a).localeCompare(key(b)) : key(a) - key(b)) * (up ? 1 : -1));
  table.tBodies[0].append(...rows);
});
"""


def render_hours(report: Report, measures: Sequence[str], title: str, zone: ZoneInfo, calendars: Sequence[str]) -> str:
    """The page's HTML; the same figures give the same page, byte for byte."""
    figures = [
        (f"{hours_of(report.seconds):,.1f}", "hours"),
        (f"{report.count:,}", "events" if report.count != 1 else "event"),
    ]
    if report.before is not None:
        figures.append((f"{hours_of(report.before):,.1f}", "hours before"))
    if report.altered is not None:
        figures += [(f"{report.altered.moved:,}", "moved"), (f"{report.altered.called_off:,}", "called off")]
    shown = "".join(f"<li><b>{number}</b> {escape(word)}</li>" for number, word in figures)
    left_out = said_left_out(report)
    note = f'<p class="quiet">Left out: {escape(left_out)}.</p>' if left_out else ""
    where, period = ", ".join(calendars), said_period(report.begin, report.end, zone)
    return (
        '<!doctype html><html lang="en"><head><meta charset="utf-8">'
        '<meta name="viewport" content="width=device-width, initial-scale=1">'
        f'<meta name="generator" content="{GENERATOR}">'
        f"<title>{escape(title)}</title><style>{_STYLE}</style></head><body><main><h1>{escape(title)}</h1>"
        f'<p class="quiet">{escape(period)}, {escape(zone.key)}. Calendars: {escape(where)}.</p>'
        f'<ul class="figures">{shown}</ul>{note}{"".join(_table(each, report, measures) for each in report.tables)}'
        f"</main><script>{_SCRIPT}</script></body></html>\n"
    )


def _table(table: HoursTable, report: Report, measures: Sequence[str]) -> str:
    heading = escape("Hours by " + " with ".join(table.by))
    measures = [each for each in measures if each not in COMPARED or not is_dated(table)]
    if not table.rows:
        return f'<section><h2>{heading}</h2><p class="quiet">Nothing in this time.</p></section>'
    most = max(row.seconds for row in table.rows)
    order = ' aria-sort="ascending"' if is_timed(table) else ""
    heads = [
        f'<th scope="col"{order if not n else ""}><button>{escape(by)}</button></th>' for n, by in enumerate(table.by)
    ]
    sort = "" if is_timed(table) else ' aria-sort="descending"'
    for each in measures:
        order = sort if each == "hours" else ""
        heads.append(f'<th scope="col" class="number"{order}><button>{_NAMES.get(each, each)}</button></th>')
    wide = ' class="wide"' if len(measures) > 4 else ""
    note = f'<p class="quiet">{escape(SHARED_NOTE.capitalize())}.</p>' if table.is_shared else ""
    body = "".join(_row(row, table, report, measures, most) for row in table.rows)
    return (
        f'<section><h2>{heading}</h2><table{wide}><thead><tr>{"".join(heads)}<td class="bar"></td></tr></thead>'
        f"<tbody>{body}</tbody></table>{note}</section>"
    )


def _row(row: HoursRow, table: HoursTable, report: Report, measures: Sequence[str], most: int) -> str:
    width = 100 * row.seconds / most if most else 0
    labels = "".join(
        f'<td data-key="{escape(label, quote=True)}">{escape(label_of(by, label))}</td>'
        for by, label in zip(table.by, row.labels, strict=True)
    )
    figures = "".join(
        f'<td class="number" data-key="{figure_of(each, row, report) or 0}">{said_figure(each, row, report)}</td>'
        for each in measures
    )
    return (
        f'<tr>{labels}{figures}<td class="bar"><svg viewBox="0 0 100 10" preserveAspectRatio="none" aria-hidden="true">'
        f'<rect width="{width:.2f}" height="10" rx="1"/></svg></td></tr>'
    )
