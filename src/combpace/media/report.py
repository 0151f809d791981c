"""A report as one HTML page that needs nothing else: pictures inline, tables, prints on A4. The same bytes
for the same facts: no clock.
"""

from __future__ import annotations

import csv
import io
from collections.abc import Sequence
from dataclasses import dataclass, field
from html import escape
from typing import Any

import numpy as np

from combpace.core.clocks import FloatArray
from combpace.core.tempo.measure import note_lengths_ms
from combpace.core.tempo.meters import bar_number

# Size of a chart, and room for its numbers, user units.
WIDE, TALL, LEFT, BOTTOM = 720, 150, 52, 22
# A row of bars is drawn at most so often with a number.
MOST_NUMBERS = 24
# Rows of the weave at most, and how many shades it has.
MOST_ROWS, SHADES = 200, 6
# So far apart are numbers at its side, user units.
NUMBER_PX = 15
STYLE = """
@page { size: A4; margin: 16mm }
* { box-sizing: border-box }
body { font: 14px/1.45 system-ui, sans-serif; color: #1F2530; background: #FBF8F1; max-width: 780px;
  margin: 24px auto; padding: 0 16px; font-variant-numeric: tabular-nums }
h1 { font-size: 22px; margin: 0 } h2 { font-size: 16px; margin: 26px 0 6px } p { margin: 4px 0 }
.quiet { color: #5C6675 }
svg { width: 100%; height: auto; display: block } svg text { font: 11px system-ui, sans-serif; fill: #5C6675 }
.line { fill: none; stroke: #1F2530; stroke-width: 1.6 } .zero { stroke: #D9D1C0 }
.dark { fill: #1F2530 } .after { fill: #0F766E } .before { fill: #B4630F }
table { border-collapse: collapse; width: 100%; font-size: 12.5px }
th { text-align: left; color: #5C6675; font-weight: 500 }
th, td { padding: 2px 8px 2px 0; border-bottom: 1px solid #D9D1C0; vertical-align: top }
td.n, th.n { text-align: right }
tr { break-inside: avoid } thead { display: table-header-group }
@media print { body { background: none; margin: 0; max-width: none } }
"""


@dataclass(frozen=True, slots=True)
class TakeReport:
    """What was done with a take.

    said     its sentences, in words
    moved    (place, by how many ms its onset was moved, "pulled" or "by hand"), in order
    left     (place, why its onset was left where it was)
    proof    "112 of 114 within 3 ms", or ""
    """

    name: str
    said: tuple[str, ...]
    moved: tuple[tuple[str, float, str], ...] = ()
    left: tuple[tuple[str, str], ...] = ()
    proof: str = ""


@dataclass(frozen=True, slots=True)
class Report:
    """Everything that a page says.

    bars  rows of {n, s, bpm, meter, drift (ms or None), sure (0-1)}, in order
    whose the take that was fitted, where one was; before, after: how far its first attack of each bar lies
    from the line, as played and as fitted,
          ms or None
    weave   darkness 0-1 of shape (bars, columns), an eighth of a bar over both ends; first: gapless index of
            its first bar
    bpm     quarters a minute (the middle where it breathes), for the lengths of notes; None without a pulse
    """

    title: str
    said: tuple[str, ...]
    bars: tuple[dict[str, Any], ...]
    whose: str = ""
    before: tuple[float | None, ...] = ()
    after: tuple[float | None, ...] = ()
    takes: tuple[TakeReport, ...] = field(default=())
    weave: FloatArray | None = None
    first: int = 0
    bpm: float | None = None
    breathes: bool = False


def document(report: Report) -> dict[str, Any]:
    """The same as JSON."""
    return {
        "version": 1,
        "title": report.title,
        "said": list(report.said),
        "fitted": report.whose,
        "bars": [
            {**bar, "before": report.before[k], "after": report.after[k]} if report.whose else dict(bar)
            for k, bar in enumerate(report.bars)
        ],
        "notes_ms": {
            name: {"straight": round(plain, 3), "dotted": round(dotted, 3), "triplet": round(triplet, 3)}
            for name, plain, dotted, triplet in (note_lengths_ms(report.bpm) if report.bpm else ())
        },
        "takes": [
            {
                "name": take.name,
                "said": list(take.said),
                "moved": [{"place": place, "ms": ms, "how": how} for place, ms, how in take.moved],
                "left": [{"place": place, "why": why} for place, why in take.left],
                "proof": take.proof,
            }
            for take in report.takes
        ],
    }


def table(report: Report) -> str:
    """The bars as CSV, with a header."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(["bar", "start_s", "bpm", "meter", "drift_ms", "confidence", "before_ms", "after_ms"])
    for k, bar in enumerate(report.bars):
        writer.writerow(
            [
                bar["n"],
                bar["s"],
                bar["bpm"],
                bar["meter"],
                bar["drift"],
                bar["sure"],
                *((report.before[k], report.after[k]) if report.whose else ("", "")),
            ]
        )
    return out.getvalue()


def page(report: Report) -> str:
    """The report as HTML."""
    parts = [
        f"<h1>{escape(report.title)}</h1>",
        *(f'<p class="quiet">{escape(one)}</p>' for one in report.said),
    ]
    if report.bars:
        whose = f" of {escape(report.whose)}" if report.whose else ""
        if report.weave is not None and len(report.weave):
            parts += [
                "<h2>The weave: a row a bar, dark where something is struck</h2>",
                weave_chart(report.weave, report.first),
            ]
        parts += [
            "<h2>Tempo, BPM</h2>",
            tempo_chart(report.bars),
            f"<h2>First attack{whose} in each bar against its line, ms</h2>",
        ]
        parts += [
            drift_chart(
                report.bars,
                report.before if report.whose else [bar["drift"] for bar in report.bars],
                report.after,
            )
        ]
    if report.bpm:
        parts.append(_notes(report.bpm, report.breathes))
    for take in report.takes:
        parts.append(_take(take))
    if report.bars:
        parts.append(_bars(report))
    body = "\n".join(parts)
    return (
        f'<!doctype html>\n<html lang="en"><head><meta charset="utf-8"><title>{escape(report.title)}</title>'
        '<meta name="viewport" '
        f'content="width=device-width"><style>{STYLE}</style></head>\n<body>\n{body}\n</body></html>'
        "\n"
    )


def weave_chart(dark: FloatArray, first: int) -> str:
    """Rows of bars; lines where a bar begins and ends. Bars beyond MOST_ROWS are drawn several to a row."""
    together = -(-len(dark) // MOST_ROWS)
    rows = np.array([dark[k : k + together].max(axis=0) for k in range(0, len(dark), together)])
    tall, columns = min(9.0, max(2.5, 300 / len(rows))), rows.shape[1]
    wide, high = (WIDE - LEFT) / columns, tall * len(rows)
    steps = np.clip(np.ceil(np.clip(rows, 0, 1) * SHADES - 0.5), 0, SHADES).astype(int)
    paths: list[list[str]] = [[] for _ in range(SHADES + 1)]
    for row, line in enumerate(steps):
        edges = np.flatnonzero(np.diff(line)) + 1
        for lo, hi in zip([0, *edges], [*edges, columns], strict=True):
            if line[lo]:
                paths[line[lo]].append(
                    f"M{LEFT + lo * wide:.1f} "
                    f"{row * tall:.1f}h{(hi - lo) * wide:.1f}v{tall:.1f}h{-(hi - lo) * wide:.1f}z"
                )
    drawn = "".join(
        f'<path class="dark" fill-opacity="{k / SHADES:.2f}" d="{"".join(path)}"/>'
        for k, path in enumerate(paths)
        if path
    )
    for at in (0.1, 0.9):
        x = LEFT + at * (WIDE - LEFT)
        drawn += f'<line class="zero" x1="{x:.1f}" x2="{x:.1f}" y1="0" y2="{high:.1f}"/>'
    every = max(1, -int(-NUMBER_PX // tall))
    for row in range(0, len(rows), every):
        drawn += (
            '<text x="0" '
            f'y="{row * tall + min(9.0, tall + 2):.1f}">{bar_number(first + row * together)}</text>'
        )
    said = f"weave of {len(dark)} bars; the lines are where each begins and ends"
    return f'<svg viewBox="0 0 {WIDE} {high + 6:.1f}" role="img" aria-label="{said}">{drawn}</svg>'


def tempo_chart(bars: Sequence[dict[str, Any]]) -> str:
    """A step a bar."""
    tempi = [float(bar["bpm"]) for bar in bars]
    low, high = min(tempi), max(tempi)
    room = max(0.5, 0.08 * (high - low))
    low, high = low - room, high + room
    wide = (WIDE - LEFT) / len(bars)

    def y(bpm: float) -> float:
        return (TALL - BOTTOM) * (high - bpm) / (high - low)

    path = f"M{LEFT} {y(tempi[0]):.1f}" + "".join(
        f"V{y(bpm):.1f}H{LEFT + (k + 1) * wide:.1f}" for k, bpm in enumerate(tempi)
    )
    marks = "".join(
        f'<line class="zero" x1="{LEFT}" x2="{WIDE}" y1="{y(at):.1f}" y2="{y(at):.1f}"/>'
        f'<text x="0" y="{y(at) + 4:.1f}">{at:.1f}</text>'
        for at in (low + room, (low + high) / 2, high - room)
    )
    return _chart(
        f'{marks}<path class="line" d="{path}"/>{_numbers(bars, wide)}',
        f"tempo of {len(bars)} bars, {low + room:.1f} to {high - room:.1f} BPM",
    )


def drift_chart(
    bars: Sequence[dict[str, Any]], before: Sequence[float | None], after: Sequence[float | None]
) -> str:
    """Two marks a bar: as played, and as fitted where that is known."""
    values = [abs(float(one)) for one in [*before, *after] if one is not None]
    most = max(5.0, max(values, default=5.0))
    wide, middle = (WIDE - LEFT) / len(bars), (TALL - BOTTOM) / 2

    def y(ms: float) -> float:
        return middle - ms / most * (middle - 4)

    found = [f'<line class="zero" x1="{LEFT}" x2="{WIDE}" y1="{middle}" y2="{middle}"/>']
    found += [f'<text x="0" y="{max(10.0, y(at) + 4):.1f}">{at:+.0f}</text>' for at in (most, 0.0, -most)]
    for kind, rows, size in (("before", list(before), 2.6), ("after", list(after), 2.0)):
        found += [
            f'<circle class="{kind}" cx="{LEFT + (k + 0.5) * wide:.1f}" cy="{y(float(ms)):.1f}" r="{size}"/>'
            for k, ms in enumerate(rows)
            if ms is not None
        ]
    said = "as played in ochre, as fitted in green" if any(one is not None for one in after) else "as played"
    return (
        _chart(
            "".join(found) + _numbers(bars, wide), f"drift of {len(bars)} bars, up to {most:.0f} ms, {said}"
        )
        + f'<p class="quiet">{said}</p>'
    )


def _numbers(bars: Sequence[dict[str, Any]], wide: float) -> str:
    every = max(1, -(-len(bars) // MOST_NUMBERS))
    return "".join(
        f'<text x="{LEFT + k * wide:.1f}" y="{TALL - 4}">{bar["n"]}</text>'
        for k, bar in enumerate(bars)
        if k % every == 0
    )


def _chart(inside: str, words: str) -> str:
    return f'<svg viewBox="0 0 {WIDE} {TALL}" role="img" aria-label="{escape(words)}">{inside}</svg>'


def _take(take: TakeReport) -> str:
    parts = [f"<h2>{escape(take.name)}</h2>", *(f"<p>{escape(one)}</p>" for one in take.said)]
    if take.proof:
        parts.append(f"<p>{escape(take.proof)}</p>")
    if take.moved:
        rows = "".join(
            f'<tr><td>{escape(place)}</td><td class="n">{ms:+.1f}</td><td>{escape(how)}</td></tr>'
            for place, ms, how in take.moved
        )
        parts.append(
            '<table><thead><tr><th>moved to</th><th class="n">by, '
            f"ms</th><th>how</th></tr></thead><tbody>{rows}</tbody></table>"
        )
    if take.left:
        rows = "".join(f"<tr><td>{escape(place)}</td><td>{escape(why)}</td></tr>" for place, why in take.left)
        parts.append(
            "<table><thead><tr><th>left where it "
            f"was</th><th>why</th></tr></thead><tbody>{rows}</tbody></table>"
        )
    return "\n".join(parts)


def _notes(bpm: float, breathes: bool) -> str:
    rows = "".join(
        f"<tr><td>{name}</td>{''.join(f'<td class=n>{length:.2f}</td>' for length in lengths)}</tr>"
        for name, *lengths in note_lengths_ms(bpm)
    )
    head = (
        '<tr><th>note</th><th class="n">straight</th><th class="n">dotted</th><th class="n">triplet</th></tr>'
    )
    where = f"its middle tempo, {bpm:.2f}" if breathes else f"{bpm:.2f}"
    return (
        f"<h2>Lengths of notes at {where} quarters a minute, "
        f"ms</h2><table><thead>{head}</thead><tbody>{rows}</tbody></table>"
    )


def _bars(report: Report) -> str:
    def ms(value: float | None) -> str:
        return "" if value is None else f"{value:+.1f}"

    rows = "".join(
        f'<tr><td>{bar["n"]}</td><td class="n">{bar["s"]:.3f}</td><td '
        f'class="n">{bar["bpm"]:.2f}</td><td>{escape(str(bar["meter"]))}</td>'
        f'<td class="n">{ms(bar["drift"])}</td><td '
        f'class="n">{ms(report.after[k]) if report.after else ""}</td>'
        f'<td class="n">{100 * float(bar["sure"]):.0f}</td></tr>'
        for k, bar in enumerate(report.bars)
    )
    head = (
        '<tr><th>bar</th><th class="n">starts, s</th><th class="n">BPM</th><th>meter</th><th '
        'class="n">drift, ms</th>'
        f'<th class="n">{"fitted, ms" if report.whose else ""}</th><th class="n">sure, %</th></tr>'
    )
    return f"<h2>Bars</h2><table><thead>{head}</thead><tbody>{rows}</tbody></table>"
