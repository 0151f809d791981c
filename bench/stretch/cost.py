"""What a stretch costs: CPU against libraries in turns, two workers on two halves, memory, and a preview."""

from __future__ import annotations

import subprocess
import sys
import time
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from functools import cache
from pathlib import Path
from typing import Any

import numpy as np

from combpace.core.audio import ArraySource, Audio
from combpace.core.fit.time_map import TimeMap
from combpace.core.stretch import METHODS, StretchedSource, stretch
from combpace.core.stretch.remembered import Remembered
from rig.shared import STRETCH, needed

RATE, ROUNDS = 44100, 5
ROOT = Path(__file__).resolve().parents[2]


def material(seconds: int) -> tuple[Any, TimeMap]:
    """Stereo bursts of noise over a tone, an eighth apart, each moved by up to 20 ms; shape (2, frames)."""
    frames = seconds * RATE
    rng = np.random.default_rng(0)
    length = int(0.3125 * RATE)
    burst = (np.exp(-np.arange(length) / 3000.0) * rng.standard_normal(length) * 0.2).astype(np.float32)
    sound = np.tile(burst, frames // length + 1)[:frames] + 0.1 * np.sin(
        2 * np.pi * 220 * np.arange(frames) / RATE
    ).astype(np.float32)
    source = np.arange(0, seconds - 0.4, 0.3125)
    target = source + 0.02 * np.sin(source)
    return np.stack([sound, 0.7 * sound]).astype(np.float32), TimeMap(
        np.append(source, seconds), np.append(target, seconds)
    )


def by_us(method: str, seconds: int = 120) -> float:
    sound, time_map = material(seconds)
    begun = time.process_time()
    stretch(Audio(sound, RATE), time_map, method)
    return time.process_time() - begun


def by_peer(python: str, name: str, seconds: int = 120) -> float:
    code = (
        "import sys, time, resource, numpy as np\n"
        f"sys.path[:0] = [{str(ROOT)!r}, {str(ROOT / 'src')!r}]\n"
        "from bench.stretch.cost import material\nimport importlib.util\n"
        f"spec = importlib.util.spec_from_file_location('peers', {str(needed(STRETCH) / 'peers.py')!r}); "
        "peers = importlib.util.module_from_spec(spec)\n"
        f"spec.loader.exec_module(peers)\ny, m = material({seconds})\ny = np.ascontiguousarray(y.T)\n"
        "cpu = lambda: sum(sum(resource.getrusage(w)[:2]) for w in (resource.RUSAGE_SELF, "
        "resource.RUSAGE_CHILDREN))\nbegun = cpu()\n"
        f"peers.{name}(y, {RATE}, m.source_s, m.target_s, 'poly')\nprint(cpu() - begun)\n"
    )
    done = subprocess.run([python, "-c", code], capture_output=True, text=True)
    return float(done.stdout.split()[-1]) if done.stdout.split() else float("nan")


held = cache(material)


def half(method: str, which: int, seconds: int = 120) -> int:
    sound, time_map = held(seconds)
    made = StretchedSource(ArraySource(Audio(sound, RATE)), time_map, method)
    middle = made.frames // 2
    return made.read(0, middle).shape[1] if which == 0 else made.read(middle, made.frames).shape[1]


def memory_mib(method: str, seconds: int) -> float:
    """Peak above what input and output take, in a process of its own."""
    code = (
        "import numpy as np\nfrom bench.stretch.cost import material, RATE\nfrom "
        "combpace.core.audio import Audio\n"
        "from combpace.core.stretch import stretch\nfrom combpace.core.timemap import TimeMap\n"
        "short, m = material(2)\nstretch(Audio(short, RATE), TimeMap(np.array([0, 1.0, 2]), "
        f"np.array([0, 1.1, 2])), {method!r})\n"
        f"y, m = material({seconds})\n"
        "open('/proc/self/clear_refs', 'w').write('5')\n"
        "st = lambda k: int([l for l in open('/proc/self/status') if "
        "l.startswith(k)][0].split()[1])\nr0 = st('VmRSS')\n"
        f"out = stretch(Audio(y, RATE), m, {method!r})\nprint((st('VmHWM') - r0 - "
        "out.samples.nbytes / 1024) / 1024)\n"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, cwd=ROOT)
    return float(done.stdout.split()[-1]) if done.stdout.split() else float("nan")


def preview_ms(method: str) -> tuple[float, float, float, float]:
    """Four bars of stereo at 120 BPM from the middle of a take, in a warm worker, medians of five places.

    Returns  a place that is heard for the first time; the same place when one of its marks has moved, with
             planning; planning for the first time; planning again: all in ms
    """
    sound, time_map = material(120)
    source = Remembered(ArraySource(Audio(sound, RATE)))

    def timed(run: Callable[[], Any]) -> tuple[float, Any]:
        begun = time.perf_counter()
        made = run()
        return 1000 * (time.perf_counter() - begun), made

    first, made = timed(lambda: StretchedSource(source, time_map, method))
    new, again, planned = [], [], []
    for place in (20, 37, 55, 71, 96):
        span = (place * RATE, (place + 8) * RATE)
        new.append(timed(lambda made=made, span=span: made.read(*span))[0])
        target = time_map.target_s.copy()
        target[np.searchsorted(target, place + 4)] += 0.007
        cost, moved = timed(
            lambda target=target: StretchedSource(source, TimeMap(time_map.source_s, target), method)
        )
        planned.append(cost)
        again.append(cost + timed(lambda moved=moved, span=span: moved.read(*span))[0])
    return float(np.median(new)), float(np.median(again)), first, float(np.median(planned))


def _wall(run: Callable[[], Any]) -> float:
    begun = time.perf_counter()
    run()
    return time.perf_counter() - begun


def report(peers: str) -> list[str]:
    names = [*METHODS]
    others = ["signalsmith", "rb_r3"] if peers else []
    spent: dict[str, list[float]] = {name: [] for name in [*names, *others]}
    for _ in range(ROUNDS):
        for name in names:
            spent[name].append(by_us(name))
        for name in others:
            if name != "rb_r3" or not spent[name]:
                spent[name].append(by_peer(peers, name))
    middle = {name: float(np.median(values)) for name, values in spent.items()}
    lines = [
        "| 120 s stereo | CPU s | to Signalsmith | to R3 | two, wall | 4 bars first, mark moved, "
        "ms | plan, again | MiB, 30, 120, 600 s |",
        "|---|---|---|---|---|---|---|---|",
    ]
    for name in names:
        # What is stretched is there before: to make it is no part of a stretch.
        with ProcessPoolExecutor(2, initializer=held, initargs=(120,)) as pool:
            list(pool.map(half, (name, name), (0, 1), (4, 4)))
            both = float(
                np.median(
                    [
                        _wall(lambda pool=pool, name=name: list(pool.map(half, (name, name), (0, 1))))
                        for _ in range(ROUNDS)
                    ]
                )
            )
            alone = float(
                np.median(
                    [
                        _wall(
                            lambda pool=pool, name=name: [pool.submit(half, name, k).result() for k in (0, 1)]
                        )
                        for _ in range(ROUNDS)
                    ]
                )
            )
        ratio = [
            f"{middle[name] / middle[other]:.2f}" if other in middle else "-"
            for other in ("signalsmith", "rb_r3")
        ]
        new, again, first, planned = preview_ms(name)
        mib = ", ".join(f"{memory_mib(name, seconds):.0f}" for seconds in (30, 120, 600))
        parts = [
            f"{middle[name]:.2f}",
            *ratio,
            f"{both / alone:.2f}",
            f"{new:.0f}, {again:.0f}",
            f"{first:.0f}, {planned:.0f}",
            mib,
        ]
        lines.append(f"| {name} | {' | '.join(parts)} |")
    for other in others:
        lines.append(f"| {other} | {middle[other]:.2f} | | | | | | |")
    return lines
