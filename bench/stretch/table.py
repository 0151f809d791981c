"""The stretch against what is asked of it: `.venv/bin/python -m bench.stretch.table [--settings few]
[--brief] [--peers PYTHON] [--cost]`.

Runs ../shared/bench/stretch over seeds 0, 1, 7 at 72, 96, 152 BPM with two sound fonts (Debian's fluidsynth,
fluid-soundfont-gm and timgm6mb-soundfont); the worst setting is the figure. --peers names a Python in which
general libraries of that folder's peers.py are installed; they run on the same settings. --look DIR writes
before, ideal and after as WAV with spectrograms of the worst places.
"""

from __future__ import annotations

import argparse
import json
import subprocess
import sys
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from bench.stretch.judge import BENCH
from rig.shared import needed

FONTS = [Path("/usr/share/sounds/sf2/FluidR3_GM.sf2"), Path("/usr/share/sounds/sf2/TimGM6mb.sf2")]
SETTINGS = {
    "all": [(seed, bpm, font) for seed in (0, 1, 7) for bpm in (72, 96, 152) for font in FONTS],
    "few": [(0, 96, FONTS[0]), (1, 152, FONTS[1]), (7, 72, FONTS[0]), (7, 152, FONTS[0])],
}
# What each method is for.
CLIPS = {"cut": "ash", "strike": "ash", "chord": "bdegij", "line": "cf"}
MAPS = "m1,m1j,m2,m3,m4a,m4b,m5"
# What is compared where all is stretched far: the figure, the clip, our method.
FAR = (
    ("purity", "e", "chord"),
    ("cents_p95", "e", "chord"),
    ("cents_p95", "c", "line"),
    ("cents_p95", "f", "line"),
    ("am", "f", "line"),
)
FAR_MAPS = "m3,m4b"
PEERS = ("signalsmith", "rb_r3", "bungee", "pytsmod_pv", "rb_r2")
Rows = list[dict[str, Any]]


@dataclass(frozen=True, slots=True)
class Asked:
    """A line of what is asked: the largest `key` over settings for these clips, maps and methods, against a
    limit.
    """

    name: str
    methods: str
    clips: str
    maps: str
    key: str
    limit: float


ASKED = (
    Asked("length error", "cut strike chord line", "asbcdefghij", MAPS, "len_err", 0),
    Asked("lost attacks, %", "cut strike chord line", "asbcdfghij", MAPS, "lost", 0),
    Asked("spike at m1, dB", "cut strike chord line", "asbcdefghij", "m1", "spike", 8),
    Asked("spike at m1j, dB", "cut strike chord line", "asbcdefghij", "m1j", "spike", 8),
    Asked("spike at m2 and m4a, dB", "cut strike chord line", "asbcdefghij", "m2,m4a", "spike", 8),
    Asked("spike at m3, dB", "cut strike chord line", "asbcdefghij", "m3", "spike", 8),
    Asked("spike at m4b, dB", "cut strike chord line", "asbcdefghij", "m4b", "spike", 8),
    Asked("identity, dB", "cut strike chord line", "asbcdefghij", "m5", "null", -130),
    Asked("attacks, ms", "cut strike", "ash", "m1,m3", "on_p95", 0.05),
    Asked("attacks at m4, ms", "cut strike", "ash", "m4a,m4b", "on_p95", 0.1),
    Asked("rise", "cut strike", "ash", "m1,m3,m4a,m4b", "rise", 1.02),
    Asked("before the attack, dB", "cut strike", "ash", "m1,m3,m4a,m4b", "pre_p95", 1),
    Asked("attacks, ms", "chord", "bdgi", "m1", "on_p95", 0.3),
    Asked("rise", "chord", "bdgi", "m1", "rise", 1.1),
    Asked("before the attack, dB", "chord", "bdgi", "m1", "pre_p95", 1.5),
    Asked("pad: purity, median", "chord", "e", "m1", "purity", -38),
    Asked("pad: purity, 95 %", "chord", "e", "m1", "purity_p95", -24),
    Asked("pad: cents", "chord", "e", "m1", "cents_p95", 0.1),
    Asked("pad under drums: sustain, dB", "chord", "j", "m1", "purity", -8.5),
    Asked("pad under drums: rise", "chord", "j", "m1", "rise", 1.1),
    Asked("bass: attacks, ms", "line", "c", "m1", "on_p95", 0.05),
    Asked("bass: cents", "line", "c", "m1", "cents_p95", 0.08),
    Asked("voice: attacks, ms", "line", "f", "m1", "on_p95", 0.3),
    Asked("voice: cents", "line", "f", "m1", "cents_p95", 0.45),
    Asked("voice: am, dB", "line", "f", "m1", "am", -50),
    Asked("two mics: delay, µs", "strike", "h", "m1", "icd_p95", 0.04),
    Asked("marks beside the attack, ms", "cut strike chord line", "asbcdfghij", "m1j", "on_p95", 0.4),
)


def judged(
    settings: list[tuple[int, int, Path]],
    specs: dict[str, str],
    maps: str,
    python: str,
    look: Path | None = None,
) -> Rows:
    """Rows of every setting; specs: which clips each is run on."""

    def run(job: tuple[tuple[int, int, Path], str, str]) -> Rows:
        (seed, bpm, font), spec, clips = job
        command = [
            python,
            str(Path(__file__).with_name("judge.py")),
            str(seed),
            str(bpm),
            str(font),
            maps,
            ",".join(clips),
            spec,
        ]
        done = subprocess.run(
            [*command, *(["--wavs", str(look)] if look else [])], capture_output=True, text=True
        )
        try:
            rows: Rows = json.loads(done.stdout[done.stdout.index("[{") :])
        except ValueError:
            print(f"{spec} on {seed}/{bpm}: {done.stderr[-300:]}", file=sys.stderr)
            return []
        return rows

    jobs = [(setting, spec, clips) for setting in settings for spec, clips in specs.items()]
    with ThreadPoolExecutor(2) as pool:
        return [row for rows in pool.map(run, jobs) for row in rows]


def absolute(rows: Rows) -> list[str]:
    lines = ["| asked of | method | limit | worst | met in |", "|---|---|---|---|---|"]
    for asked in ASKED:
        for method in asked.methods.split():
            found = [
                row
                for row in rows
                if row["spec"] == f"combpace:{method}"
                and row["clip"] in asked.clips
                and row["map"] in asked.maps.split(",")
                and asked.key in row
            ]
            values = [float(row[asked.key]) for row in found if row[asked.key] == row[asked.key]]
            if values:
                met = sum(abs(v) <= 0 if asked.key == "len_err" else v <= asked.limit for v in values)
                where = max(
                    found, key=lambda row: row[asked.key] if row[asked.key] == row[asked.key] else -1e9
                )
                place = (
                    "" if met == len(values) else f" ({where['clip']}, {where['map']}, {where['setting']})"
                )
                lines.append(
                    f"| {asked.name} | {method} | {asked.limit:g} | {max(values):.2f}{place} | "
                    f"{met} of {len(values)} |"
                )
    errors = [row for row in rows if "error" in row and row["spec"].startswith("combpace")]
    broken = sum(not row.get("finite", True) for row in rows if row["spec"].startswith("combpace"))
    return [*lines, "", f"{len(errors)} errors, {broken} outputs that are not finite."]


def against(rows: Rows) -> list[str]:
    """Ours against the best library, setting by setting, at m1."""
    best: dict[tuple[str, str, str], float] = {}
    for row in rows:
        if row["spec"].startswith("peers:") and row["map"] == "m1":
            for key in ("lsd", "img"):
                if key in row:
                    at = (row["setting"], row["clip"], key)
                    best[at] = min(best.get(at, 1e9), float(row[key]))
    lines = [
        "| figure | clip | method | ours, range | best library, range | ours better by at least | "
        "better in |",
        "|---|---|---|---|---|---|---|",
    ]
    wanted = [
        ("lsd", clip, method)
        for clip, method in zip("abcdfg", ("strike", "chord", "line", "chord", "line", "chord"), strict=True)
    ]
    for key, clip, method in [*wanted, ("img", "h", "strike"), ("img", "i", "chord")]:
        mine = {
            r["setting"]: float(r[key])
            for r in rows
            if r["spec"] == f"combpace:{method}" and r["clip"] == clip and r["map"] == "m1" and key in r
        }
        pairs = [
            (value, best[(setting, clip, key)])
            for setting, value in mine.items()
            if (setting, clip, key) in best
        ]
        if pairs:
            gaps = [theirs - own for own, theirs in pairs]
            spans = [f"{min(v):.2f} to {max(v):.2f}" for v in zip(*pairs, strict=True)]
            lines.append(
                f"| {key} | {clip} | {method} | {spans[0]} | {spans[1]} | {min(gaps):.2f} | "
                f"{sum(g > 0 for g in gaps)} of {len(gaps)} |"
            )
    return [*lines, "", *_far(rows)] if len(lines) > 2 else []


def _far(rows: Rows) -> list[str]:
    """Ours against the best library, setting by setting, where all is stretched by a quarter and to the
    double.
    """
    lines = [
        "| figure | clip, map | method | ours, range | best library, range | ours worse by at most "
        "| better or within .1 |",
        "|---|---|---|---|---|---|---|",
    ]
    for key, clip, method in FAR:
        for way in FAR_MAPS.split(","):
            of = [
                r
                for r in rows
                if r["clip"] == clip and r["map"] == way and isinstance(r.get(key), int | float)
            ]
            best: dict[str, float] = {}
            for row in of:
                if row["spec"].startswith("peers:"):
                    best[row["setting"]] = min(best.get(row["setting"], 1e9), float(row[key]))
            pairs = [
                (float(r[key]), best[r["setting"]])
                for r in of
                if r["spec"] == f"combpace:{method}" and r["setting"] in best
            ]
            if pairs:
                spans = [f"{min(v):.2f} to {max(v):.2f}" for v in zip(*pairs, strict=True)]
                worse = [own - theirs for own, theirs in pairs]
                met = sum(gap <= (0.1 if "cents" in key else 0) for gap in worse)
                lines.append(
                    f"| {key} | {clip}, {way} | {method} | {spans[0]} | {spans[1]} | "
                    f"{max(worse):.2f} | {met} of {len(pairs)} |"
                )
    return lines if len(lines) > 2 else []


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0] if __doc__ else "")
    parser.add_argument("--settings", choices=SETTINGS, default="all")
    parser.add_argument("--maps", default=MAPS)
    parser.add_argument("--peers", default="", metavar="PYTHON")
    parser.add_argument(
        "--rows",
        type=Path,
        help="keep all rows here, and take the libraries' from here when --peers is not given",
    )
    parser.add_argument("--cost", action="store_true")
    parser.add_argument("--look", type=Path)
    parser.add_argument("--brief", action="store_true", help="only what is asked, worst of all settings")
    options = parser.parse_args()
    needed(BENCH)
    lines: list[str] = []
    if not (BENCH / "bench.py").is_file():
        print("There is no ../shared/bench/stretch here: only what it costs is measured.")
        options.cost = True
    else:
        settings = [setting for setting in SETTINGS[options.settings] if setting[2].exists()]
        if not settings:
            raise SystemExit("No sound font: install fluidsynth, fluid-soundfont-gm and timgm6mb-soundfont.")
        rows = judged(
            settings,
            {f"combpace:{method}": clips for method, clips in CLIPS.items()},
            options.maps,
            sys.executable,
            options.look,
        )
        if options.peers:
            rows += judged(settings, {f"peers:{name}": "abcdfghi" for name in PEERS}, "m1", options.peers)
            rows += judged(settings, {f"peers:{name}": "cef" for name in PEERS}, FAR_MAPS, options.peers)
        elif options.rows and options.rows.exists():
            rows += [row for row in json.loads(options.rows.read_text()) if row["spec"].startswith("peers:")]
        if options.rows:
            options.rows.write_text(json.dumps(rows))
        if options.brief:
            print("\n".join(absolute(rows)[:-2]))
            return
        lines += [
            f"{len(settings)} settings; the worst of them is the figure.",
            "",
            *absolute(rows),
            "",
            *against(rows),
            "",
        ]
    if options.cost:
        from bench.stretch.cost import report

        lines += report(options.peers)
    print("\n".join(lines))


if __name__ == "__main__":
    main()
