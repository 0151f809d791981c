"""What the screens promise, measured in the files that leave: `.venv/bin/python -m bench.promises [--only
WORD]`.

Each promise is one function: material with known truth goes over the wire into a server of its own, or to the
command line, as a page or a person would send it; what is handed off is measured. A promise that is not kept
says what was found instead. Exit status 1 where one is broken.
"""

from __future__ import annotations

import argparse
import contextlib
import io
import json
import re
import sys
import tempfile
import urllib.error
import urllib.request
import zipfile
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any
from urllib.parse import quote

import numpy as np
import soundfile as sf
from numpy.typing import NDArray
from scipy import signal

from bench.fit.feel import felt
from combpace.cli import main as command
from combpace.media.midi import read_map
from rig.lossy import write_mp3
from rig.server import Server
from rig.sounds import RATE, attack_starts, burst, struck
from rig.waiting import until

Sound = NDArray[np.float32]
# An attack lies where it is promised to within this: a zero crossing is looked for within 1 ms.
NEAR_S = 0.0015


@dataclass(frozen=True)
class Promise:
    """words: what is promised; keep: measures it and says what it found, or raises AssertionError."""

    words: str
    keep: Callable[[Desk], str]


PROMISES: list[Promise] = []


def promise(words: str) -> Callable[[Callable[[Desk], str]], Callable[[Desk], str]]:
    """Register a promise under its words."""

    def register(keep: Callable[[Desk], str]) -> Callable[[Desk], str]:
        PROMISES.append(Promise(words, keep))
        return keep

    return register


class Desk:
    """A session on a server, worked as a page works it."""

    def __init__(self, address: str, folder: Path) -> None:
        self.address, self.folder = address, folder
        self.session = ""

    def ask(self, method: str, path: str, body: Any = None) -> Any:
        """JSON where it is JSON, else bytes. Raises AssertionError with what the server said."""
        data = body if isinstance(body, bytes) or body is None else json.dumps(body).encode()
        request = urllib.request.Request(self.address + path, data, method=method)
        request.add_header("Content-Type", "application/json")
        try:
            with urllib.request.urlopen(request) as answer:
                content = answer.read()
                is_json = answer.headers["Content-Type"].startswith("application/json")
        except urllib.error.HTTPError as error:
            raise AssertionError(f"{method} {path}: {error.code} {error.read()[:300]!r}") from error
        return json.loads(content) if is_json else content

    def begin(self, name: str) -> None:
        self.session = self.ask("POST", "/api/sessions", {"name": name})["id"]

    @property
    def base(self) -> str:
        return f"/api/sessions/{self.session}"

    def picture(self, take: str = "") -> dict[str, Any]:
        found: dict[str, Any] = self.ask("GET", f"{self.base}/picture?focus={take}")
        return found

    def bring(self, name: str, sound: NDArray[np.float64] | Sound) -> str:
        """A sound comes in and is listened to; a loop that arrives is kept. Returns the take's id."""
        out = io.BytesIO()
        sf.write(out, sound, RATE, format="WAV", subtype="PCM_24")
        return self.upload(name, out.getvalue())

    def upload(self, name: str, data: bytes) -> str:
        """The bytes of a file, brought in as `bring` does."""
        take: str = self.ask("PUT", f"{self.base}/uploads?name={quote(name)}", data)["take"]

        def ready() -> bool:
            seen = self.picture()
            return any(
                one["id"] == take and one["state"] == "ready" for one in [*seen["takes"], *seen["arrivals"]]
            )

        until(ready, f"{name} is heard")
        if any(one["id"] == take for one in self.picture()["arrivals"]):
            self.act("arrival-keep", take=take)
        return take

    def act(self, name: str, /, **args: Any) -> str:
        note: str = self.ask(
            "POST", f"{self.base}/act/{name}", {"version": self.picture()["version"], "args": args}
        )["note"]
        return note

    def page(self, station: str, take: str = "") -> str:
        text: bytes = self.ask("GET", f"/sessions/{self.session}/{station}?take={take}")
        return text.decode()

    def job(self, job: str) -> dict[str, Any]:
        def ended() -> Any:
            found = self.ask("GET", f"/api/jobs/{job}")
            return found if found["state"] not in ("queued", "running") else None

        found: dict[str, Any] = until(ended, f"the end of {job}")
        assert found["state"] == "done", found
        return found

    def render_and_keep(self, take: str) -> str:
        """Render a fit and keep it as a take of its own; its id, once it is heard."""
        made = self.ask("POST", f"{self.base}/render", {"take": take, "version": self.picture()["version"]})
        self.job(made["job"])
        known = {one["id"] for one in self.picture()["takes"]}
        self.act("keep", take=take)
        (new,) = (one["id"] for one in self.picture()["takes"] if one["id"] not in known)
        until(
            lambda: next(one for one in self.picture()["takes"] if one["id"] == new)["state"] == "ready",
            "the kept take",
        )
        return str(new)

    def hand_off(self, **wish: Any) -> dict[str, bytes]:
        """The files of the zip of an order, by their names after the session's."""
        made = self.job(self.ask("POST", f"{self.base}/hand-off", wish)["job"])
        # The zip is written last.
        archive = made["result"]["files"][-1]
        with zipfile.ZipFile(io.BytesIO(self.ask("GET", f"/api/files/{archive}"))) as pack:
            return {
                (name.partition(" - ")[2] or Path(name).suffix): pack.read(name) for name in pack.namelist()
            }

    def ticked(self) -> list[str]:
        """The takes that the sentence of Hand-off has ticked."""
        return re.findall(r'name="take" value="(\w+)" checked', self.page("hand-off"))

    def sentence(self, take: str) -> dict[str, str]:
        """The cutting sentence: where it is cut, how strong, where pieces are laid."""
        page = self.page("pieces", take)
        chosen = {
            name: re.search(rf'<select class="field" name="{name}".*?value="([^"]+)" selected', page, re.S)
            for name in ("at", "lay")
        }
        stronger = re.search(r'name="stronger" value="([^"]+)"', page)
        assert stronger and all(chosen.values()), "the cutting sentence is not on the page"
        return {"stronger": stronger[1], **{name: found[1] for name, found in chosen.items() if found}}


def sound_of(data: bytes) -> Sound:
    samples, rate = sf.read(io.BytesIO(data), dtype="float32", always_2d=True)
    assert rate == RATE, rate
    return np.asarray(samples[:, 0])


def steady_beats(
    bpm: float, bars: int, start: float, scatter_s: float = 0.0, seed: int = 3
) -> NDArray[np.float64]:
    rng = np.random.default_rng(seed)
    beats = start + np.arange(4 * bars) * 60 / bpm
    return np.asarray(beats + rng.uniform(-scatter_s, scatter_s, len(beats)))


def drums(beats: NDArray[np.float64]) -> Sound:
    return struck(beats, float(beats[-1]) + 1.0, low_every=4).samples[0]


def off_ms(starts: NDArray[np.float64], wanted: NDArray[np.float64]) -> float:
    """How far the wanted moments lie from the nearest attack, at most, ms."""
    return 1000 * float(np.max(np.min(np.abs(starts[None, :] - wanted[:, None]), axis=1)))


# -- pieces


@promise("The cutting sentence says what cut the pieces; the next change moves nothing but what it says")
def cutting_sentence(desk: Desk) -> str:
    desk.begin("Cutting")
    desk.bring("tub kit.wav", drums(steady_beats(96, 8, 0.5)))
    sixteenths = 0.5 + np.arange(96) * 60 / 96 / 4 + np.random.default_rng(4).uniform(-0.012, 0.012, 96)
    take = desk.bring("pipes.wav", struck(sixteenths, float(sixteenths[-1]) + 1).samples[0])
    desk.act("cut-and-lay", take=take, at="onsets", lay="1/16")
    before = attack_starts(
        sound_of(desk.hand_off(takes=[take], start="lead-in")["pipes in pieces.wav"]), RATE
    )
    said = desk.sentence(take)
    assert said["lay"] == "1/16", f"it says {said['lay']} after 1/16"
    desk.act(
        "cut-and-lay",
        take=take,
        at=said["at"],
        stronger=float(said["stronger"]),
        lay=said["lay"],
        fade_ms=7.0,
    )
    after = attack_starts(sound_of(desk.hand_off(takes=[take], start="lead-in")["pipes in pieces.wav"]), RATE)
    assert len(before) == len(after), (len(before), len(after))
    moved = 1000 * float(np.max(np.abs(before - after)))
    assert moved < 0.5, f"attacks moved by {moved:.1f} ms"
    return f"says {said['lay']}; after other fades the farthest of {len(after)} attacks moved {moved:.2f} ms"


@promise(
    "What is proposed first is the finest value played: both bars of a loop of sixteenths come out alike"
)
def proposed_value(desk: Desk) -> str:
    desk.begin("Proposed")
    beat = 60 / 104.0
    frames = round(8 * beat * RATE)
    out = np.zeros(frames)
    rng = np.random.default_rng(6)
    for k in range(32):
        at = max(0, round((k * beat / 4 + (rng.uniform(-0.010, 0.010) if k else 0)) * RATE))
        sound = burst(seed=k % 16) * (0.9 if k % 4 == 0 else 0.45)
        out[at : at + len(sound)] += sound[: frames - at]
    take = desk.bring("pipe loop.wav", out / 1.3)
    said = desk.sentence(take)
    desk.act("cut-and-lay", take=take, at=said["at"], stronger=float(said["stronger"]), lay=said["lay"])
    made = sound_of(desk.hand_off(takes=[take], start="bar 1")["pipe loop in pieces.wav"])
    starts = attack_starts(made, RATE, gap_s=0.05)
    half = 4 * beat
    first, second = starts[starts < half - 0.02], starts[starts >= half - 0.02] - half
    assert len(first) == len(second) == 16, (len(first), len(second))
    apart = 1000 * float(np.max(np.abs(first - second)))
    assert apart < 1000 * NEAR_S, f"bars 1 and 2 differ by {apart:.1f} ms"
    return f"proposes {said['lay']}; the 16 attacks of both bars lie within {apart:.2f} ms of each other"


@promise("A level over time holds its last value, in the file")
def held_level(desk: Desk) -> str:
    desk.begin("Level")
    desk.bring("tub kit.wav", drums(steady_beats(96, 8, 0.5)))
    tone = 0.5 * np.sin(2 * np.pi * 220 * np.arange(21 * RATE) / RATE)
    take = desk.bring("reed organ.wav", tone)
    desk.act("cut-and-lay", take=take, at="bars", lay="where")
    at = next(
        piece["number"] for piece in desk.picture(take)["pieces"] if piece["stop"] - piece["start"] > 2.4
    )
    desk.act("piece-curve", take=take, number=at, only=True, points=[[200.0, 0.0], [600.0, -12.0]])
    piece = next(one for one in desk.picture(take)["pieces"] if one["number"] == at)
    made = sound_of(desk.hand_off(takes=[take], start="lead-in", kind="wav32f")["reed organ in pieces.wav"])
    middle = round((piece["at"] + 1.6) * RATE)
    level = 20 * np.log10(np.abs(made[middle : middle + RATE // 4]).max() / 0.5)
    assert abs(level + 12) < 0.1, f"{level:.1f} dB after the last point"
    return f"{level:.2f} dB a second after a last point of −12 dB"


@promise("Pieces of every bar of a steady session have the frames of its bars")
def every_bar(desk: Desk) -> str:
    desk.begin("Bars")
    take = desk.bring("tub kit.wav", drums(steady_beats(92, 12, 0.5, 0.003)))
    desk.act("steady", bpm=92.0, bar_1_s=0.5)
    desk.act("cut-and-lay", take=take, at="bars", lay="1/4")
    made = desk.hand_off(takes=[take], extras=["pieces"], kind="wav32f")
    single = next(data for data in made.values() if data[:2] == b"PK")
    with zipfile.ZipFile(io.BytesIO(single)) as pack:
        lengths = [len(sound_of(pack.read(name))) for name in sorted(pack.namelist())][1:-1]
    bar = 240 / 92 * RATE
    worst = max(abs(length - bar) for length in lengths)
    assert worst <= 1, f"up to {worst:.0f} frames off {bar:.2f}"
    return f"{len(lengths)} pieces of {min(lengths):,} to {max(lengths):,} frames; a bar has {bar:,.2f}"


@promise("A file of one piece is named by a bar and beat that exist, and its attack is there")
def named_places(desk: Desk) -> str:
    desk.begin("Places")
    beats = steady_beats(96, 8, 0.5)
    desk.bring("tub kit.wav", drums(beats))
    # A hair before the bar lines, and half a beat off where the bar line is empty.
    early = beats[::2] - 0.002
    early[6] += 0.3125
    take = desk.bring("pipes.wav", drums(early))
    desk.act("steady", bpm=96.0, bar_1_s=0.5)
    desk.act("onset-rule", take=take, field="on", value="bars")
    desk.act("cut-and-lay", take=take, at="onsets", lay="where")
    (single,) = (d for d in desk.hand_off(takes=[take], extras=["pieces"]).values() if d[:2] == b"PK")
    with zipfile.ZipFile(io.BytesIO(single)) as pack:
        parts = {name: pack.read(name) for name in sorted(pack.namelist())}
    found = {re.sub(r".*/\d{3} |\.\w+$", "", name): sound_of(data) for name, data in parts.items()}
    said = [name for name in found if not name.startswith("lead-in")]
    late = max(1000 * float(attack_starts(found[name], RATE)[0]) for name in said)
    assert late < 3, f"an attack lies {late:.1f} ms behind the start of its piece"
    beat_of = [float(name.partition(".")[2]) for name in said]
    assert max(beat_of) < 5, f"a piece is called {said[int(np.argmax(beat_of))]}"
    assert all(min(beat - 1, 5 - beat) < 0.25 for beat in beat_of), f"on bars: {said}"
    assert "4.1" not in said, f"nothing is struck at 4·1, and a piece is called so: {said}"
    return f"called {', '.join(said)}, each attack within {late:.1f} ms; bar 4 has none on its line"


# -- hand-off


@promise("What came in or was kept after a hand-off is ticked; its source is not; a choice stands")
def later_takes(desk: Desk) -> str:
    desk.begin("Later")
    beats = steady_beats(96, 6, 0.5)
    lead = desk.bring("tub kit.wav", drums(beats))
    loose = desk.bring(
        "pipes.wav", drums(beats + np.random.default_rng(1).uniform(-0.02, 0.02, len(beats)))[:]
    )
    first = set(desk.hand_off(takes=desk.ticked()))
    desk.act("rule", take=loose, field="grid", value="1/4")
    kept = desk.render_and_keep(loose)
    spoons = desk.bring("spoons.wav", drums(beats + 0.004))
    assert desk.ticked() == [lead, kept, spoons], "another choice is ticked"
    second = set(desk.hand_off(takes=desk.ticked()))
    assert second == {"tub kit.wav", "pipes fitted.wav", "spoons.wav"}, second
    desk.hand_off(takes=[lead, kept])
    pans = desk.bring("pans.wav", drums(beats + 0.006))
    assert desk.ticked() == [lead, kept, pans], "a choice of the user was lost"
    return f"first {len(first)} files, then {', '.join(sorted(second))}; what was left out stayed out"


@promise("A loop alone keeps its first frame and its length to the frame")
def whole_loop(desk: Desk) -> str:
    said = []
    for bpm in (93.7, 101.34, 120.0):
        desk.begin(f"Loop {bpm:g}")
        beat, out = 60 / bpm, np.zeros(round(8 * 60 / bpm * RATE))
        for k in range(16):
            at, sound = round(k * beat / 2 * RATE), burst(seed=k % 5) * (0.8 if k % 2 == 0 else 0.5)
            out[at : at + len(sound)] += sound[: len(out) - at]
        take = desk.bring("pipe loop.wav", out / 1.3)
        made = sound_of(desk.hand_off(takes=[take], start="bar 1", kind="wav32f")["pipe loop.wav"])
        assert len(made) == len(out), f"{len(made):,} of {len(out):,} frames"
        off = float(np.max(np.abs(made[:2000] - np.float32(out[:2000] / 1.3))))
        assert off < 1e-5, f"its first samples differ by {off:g}"
        said.append(f"{len(made):,}")
    return f"{', '.join(said)} frames, as they came"


# -- fit


@promise("A kept take carries its source's marks, each on the attack as it sounds now")
def kept_marks(desk: Desk) -> str:
    desk.begin("Kept")
    desk.bring("tub kit.wav", drums(steady_beats(96, 8, 0.5)))
    take = desk.bring("pipes.wav", drums(steady_beats(96, 8, 0.5, 0.02, seed=2)))
    marks = desk.picture(take)["onsets"][take]["t"]
    desk.act("onset-remove", take=take, times_s=[marks[5]])
    desk.act("onset-lock", take=take, times_s=[marks[9]])
    desk.act("onset-rule", take=take, field="threshold", value="0.1")
    desk.act("rule", take=take, field="grid", value="1/4")
    before = len(desk.picture(take)["onsets"][take]["t"])
    kept = desk.render_and_keep(take)
    seen = desk.picture(kept)
    entry = next(one for one in seen["takes"] if one["id"] == kept)
    after = np.array(seen["onsets"][kept]["t"])
    assert len(after) == before, f"{before} marks became {len(after)}"
    name = f"{entry['name']}.wav"
    made = sound_of(desk.hand_off(takes=[kept], start="lead-in", kind="wav32f")[name])
    off = off_ms(attack_starts(made, RATE), after + entry["offset_s"])
    assert off < 1000 * NEAR_S, f"a mark lies {off:.1f} ms beside its attack"
    return f"{before} marks stay {len(after)}, each within {off:.2f} ms of its attack in the file"


@promise("A rule given to other takes pulls those it names, and leaves the lead as it was played, to the bit")
def rule_for_others(desk: Desk) -> str:
    desk.begin("Others")
    beats = steady_beats(96, 8, 0.5)
    lead_sound = drums(beats + np.random.default_rng(8).uniform(-0.012, 0.012, len(beats)))
    lead = desk.bring("tub kit.wav", lead_sound)
    desk.act("steady", bpm=96.0, bar_1_s=0.5)
    one, other = (
        desk.bring(name, drums(steady_beats(96, 8, 0.5, 0.02, seed=seed)))
        for name, seed in (("pipes.wav", 5), ("spoons.wav", 6))
    )
    desk.act("rule", take=one, field="grid", value="1/4")
    desk.act("rule", take=one, field="leave_alone", value="0")
    note = desk.act("rule-to-others", take=one)
    assert "tub kit" not in note and "spoons" in note, note
    made = desk.hand_off(takes=[lead, one, other], start="lead-in", kind="wav32f")
    apart = float(np.max(np.abs(sound_of(made["tub kit.wav"])[: len(lead_sound)] - lead_sound)))
    assert apart < 2.0**-22, f"samples of the lead differ by {apart:g}"
    off = off_ms(attack_starts(sound_of(made["spoons fitted.wav"]), RATE), beats)
    # An attack may be heard so far beside its first sample.
    assert off < 3, f"a beat of spoons lies {off:.1f} ms off the grid"
    return f"the lead is as it came; the farthest of {len(beats)} beats of spoons {off:.2f} ms off the grid"


def beside_a_steady_kit(desk: Desk, sound: Sound) -> str:
    """A take beside a kit at 96 BPM from .5 s on; its strokes are pulled however far off they lie."""
    desk.bring("tub kit.wav", drums(steady_beats(96, 8, 0.5)))
    desk.act("steady", bpm=96.0, bar_1_s=0.5)
    take = desk.bring("pipes.wav", sound)
    desk.act("rule", take=take, field="ignore", value="nothing")
    return take


def pulled(desk: Desk, take: str, strength: int, **more: str) -> NDArray[np.float64]:
    """When the strokes of a lead lie in the file that leaves, from the first of the session on."""
    for field, value in {"strength": str(strength), "leave_alone": "0", "ignore": "nothing", **more}.items():
        desk.act("rule", take=take, field=field, value=value)
    made = desk.hand_off(takes=[take], start="lead-in", kind="wav32f")
    return attack_starts(sound_of(made["tub kit fitted.wav"]), RATE)


@promise("At 0, 50, 80 and 100 % a lead keeps all, half, a fifth and none of its feel, even or drifting")
def feel_of_a_lead(desk: Desk) -> str:
    said = []
    for drifting, least, most, alike in ((False, 0.97, 1.03, 0.98), (True, 0.85, 1.0, 0.9)):
        desk.begin("Drifting" if drifting else "Even")
        feel, beats = felt(drifting, seed=3)
        take = desk.bring("tub kit.wav", drums(beats))
        desk.act("steady", bpm=100.0, bar_1_s=0.5)
        lines = 0.5 + 0.6 * np.arange(len(beats))
        for strength, share in ((0, 1.0), (50, 0.5), (80, 0.2), (100, 0.0)):
            starts = pulled(desk, take, strength)
            off = starts[np.argmin(np.abs(starts[None, :] - lines[:, None]), axis=1)] - lines
            off -= np.median(off)
            if share == 0.0:
                usual, worst = 1000 * np.sqrt(np.mean(off**2)), 1000 * float(np.abs(off).max())
                # A mark is heard up to two ms beside its stroke.
                assert usual < 0.5 and worst < 3.0, f"at 100 % a stroke lies {worst:.1f} ms off its line"
                said.append(f"at 100 % {usual:.2f} ms off the lines (rms), {worst:.1f} at most")
                continue
            kept, same = off.std() / feel.std(), float(np.corrcoef(off, feel)[0, 1])
            assert share * least <= kept <= share * most + 0.01, f"at {strength} % {kept:.2f} of it"
            # Where a mark is heard counts more, the less is left.
            assert same >= alike - (0.02 if strength == 80 else 0.0), f"at {strength} % its own by {same:.3f}"
            said.append(f"at {strength} % {kept:.2f} of its scatter, its own by {same:.3f}")
    return "; ".join(said)


@promise("With bars chosen what lies outside of them moves by nothing but what it follows")
def outside_the_bars(desk: Desk) -> str:
    desk.begin("Bars")
    _, beats = felt(False, seed=5)
    beats = beats[:64]
    sound = drums(beats)
    take = desk.bring("tub kit.wav", sound)
    desk.act("steady", bpm=100.0, bar_1_s=0.5)
    came, now = attack_starts(sound, RATE), pulled(desk, take, 100, bars="3-4")
    assert len(came) == len(now), f"{len(came)} strokes became {len(now)}"
    outside = (came < beats[8] - 0.05) | (came > beats[15] + 0.05)
    # Where it lies if no rule acts: one factor throughout, for the kit is even.
    along = np.polyval(np.polyfit(came[outside], now[outside], 1), came[outside])
    moved, factor = 1000 * float(np.abs(now[outside] - along).max()), float(np.polyfit(came, now, 1)[0])
    assert moved < 1.0, f"a stroke outside lies {moved:.2f} ms from where it follows to"
    off = off_ms(now, 0.5 + 0.6 * np.arange(8, 16))
    assert off < 2 * 1000 * NEAR_S, f"inside a stroke lies {off:.1f} ms off the grid"
    return (
        f"{int(outside.sum())} strokes outside lie {moved:.2f} ms at most from one factor of {factor:.5f}; "
        f"inside {off:.2f} ms off the grid"
    )


def same_sound(desk: Desk, take: str, page: Sound, typed: Sound) -> tuple[int, float]:
    """(samples compared, by how much they differ) of a hand-off and of what the command line wrote of one
    take;
    a file of 24 bits is rounded.
    """
    # What the first frame follows to lies before session zero, where the command line begins.
    begins = round(-min(0.0, desk.picture(take)["fit"]["target"][0]) * RATE)
    length = min(len(page) - begins, len(typed))
    apart = float(np.abs(page[begins : begins + length] - typed[:length]).max())
    assert apart <= 2.0**-22, f"samples differ by {apart:g}"
    return length, apart


@promise("Bars 9–12 with a strength of their own leave all others where they were, in page and command line")
def rules_of_bars(desk: Desk) -> str:
    desk.begin("Rules of bars")
    _, beats = felt(False, seed=9)
    beats = beats[:64]
    path, out = desk.folder / "tub kit.wav", desk.folder / "by command.wav"
    sf.write(path, drums(beats), RATE, subtype="PCM_24")
    take = desk.upload("tub kit.wav", path.read_bytes())
    desk.act("steady", bpm=100.0, bar_1_s=0.5)
    whole = pulled(desk, take, 90, method="strike")
    desk.act("rule", take=take, bars="9-12", set={"strength": 20})
    made = desk.hand_off(takes=[take], start="lead-in", kind="wav32f")
    page = sound_of(made["tub kit fitted.wav"])
    some = attack_starts(page, RATE)
    inside = np.zeros(64, dtype=bool)
    inside[32:48] = True
    still = 1000 * float(np.abs(some - whole)[~inside].max())
    moved = 1000 * float(np.abs(some - whole)[inside].max())
    assert still < 0.1, f"a stroke of the other bars moved by {still:.2f} ms"
    assert moved > 3.0, f"the strokes of the bars moved by {moved:.2f} ms at most"
    wish = ["--bpm", "100", "--first-downbeat", "0.5", "--strength", "90", "--grid", "1/4", "--rule"]
    more = ["9-12: strength=20", "--method", "strike", "-o", str(out)]
    with contextlib.redirect_stdout(io.StringIO()):
        assert command(["fit", str(path), *wish, *more]) == 0
    _, apart = same_sound(desk, take, page, sound_of(out.read_bytes()))
    return (
        f"strokes outside moved by {still:.3f} ms at most, inside by up to {moved:.1f}; samples of the "
        f"command line differ by {apart:.1g}"
    )


@promise("Where bar 1 was said to be it lies in the file: what was heard as bar 1 is brought nowhere")
def bar_1_as_said(desk: Desk) -> str:
    desk.begin("Bar 1")
    beats = steady_beats(100, 8, 0.5)
    lead = desk.bring("tub kit.wav", drums(beats))
    scattered = beats + np.random.default_rng(6).uniform(-0.02, 0.02, len(beats))
    beside = desk.bring("spoons.wav", struck(scattered, float(beats[-1]) + 1).samples[0].astype(np.float64))
    desk.act("bar-1", time_s=float(beats[2]))
    for take in (lead, beside):
        desk.act("rule", take=take, bars=None, set={"grid": "1/4", "leave_alone": 0, "ignore": "nothing"})
    made = desk.hand_off(takes=[lead, beside], start="lead-in", kind="wav32f")
    worst = {}
    for name in ("tub kit", "spoons"):
        starts = attack_starts(sound_of(made[f"{name} fitted.wav"]), RATE)
        worst[name] = off_ms(starts, beats)
        assert worst[name] < 3, f"{name} lies {worst[name]:.1f} ms from where the beats were played"
    return f"tub kit {worst['tub kit']:.2f} ms, spoons {worst['spoons']:.2f} ms at most from the beats"


@promise("`combpace fit` and the page make the same file, to the sample")
def page_and_command_line(desk: Desk) -> str:
    desk.begin("Same")
    _, beats = felt(True, seed=7)
    path, out = desk.folder / "tub kit.wav", desk.folder / "by command.wav"
    sf.write(path, drums(beats[:96]), RATE, subtype="PCM_24")
    take = desk.upload("tub kit.wav", path.read_bytes())
    desk.act("steady", bpm=100.0, bar_1_s=0.5)
    for field, value in {"strength": "60", "leave_alone": "0", "grid": "1/8", "method": "strike"}.items():
        desk.act("rule", take=take, field=field, value=value)
    made = desk.hand_off(takes=[take], start="lead-in", kind="wav32f")
    page = sound_of(made["tub kit fitted.wav"])
    wish = ["--bpm", "100", "--first-downbeat", "0.5", "--strength", "60", "--leave-alone-ms", "0"]
    more = ["--grid", "1/8", "--ignore-beyond", "60", "--method", "strike", "-o", str(out)]
    with contextlib.redirect_stdout(io.StringIO()):
        assert command(["fit", str(path), *wish, *more]) == 0
    length, apart = same_sound(desk, take, page, sound_of(out.read_bytes()))
    return f"{length:,} samples differ by {apart:.1g} at most, 24 bits beside 32"


@promise("What is moved without stretching sounds as it came, and is not called stretched")
def moved_by_cutting(desk: Desk) -> str:
    desk.begin("Cut")
    beats = steady_beats(96, 8, 0.5)
    sound = drums(beats + np.where(np.arange(len(beats)) % 2, 0.09, -0.06))
    take = beside_a_steady_kit(desk, sound)
    desk.act("rule", take=take, field="grid", value="1/4")
    said = desk.picture(take)["fit"]["reason"]
    assert "without stretching (Cut)" in said, said
    assert "stretched" not in said.replace("without stretching", ""), said
    made = sound_of(desk.hand_off(takes=[take], start="lead-in", kind="wav32f")["pipes fitted.wav"])
    starts, played, length = attack_starts(made, RATE), attack_starts(sound, RATE), round(0.05 * RATE)
    apart = 0.0
    for at, came in zip(starts, played, strict=True):
        here, there = made[round(at * RATE) :][:length], sound[round(came * RATE) :][:length]
        apart = max(apart, float(np.max(np.abs(here - there))))
    assert apart < 1e-4, f"the strokes differ by {apart:g}"
    off = off_ms(starts, beats)
    assert off < 1000 * NEAR_S, f"{off:.1f} ms off the grid"
    return f"{len(starts)} strokes {off:.2f} ms off the grid, their first 50 ms as they came"


@promise("A coarse fit says how far it moves a take, and moves it so far")
def coarse_fit(desk: Desk) -> str:
    desk.begin("Coarse")
    beats = steady_beats(96, 8, 0.5)
    # A little faster than the session: 160 ms early at its end, and 12 ms of scatter.
    sound = drums(
        0.5 + (beats - 0.5) * (1 - 0.16 / 19.375) + np.random.default_rng(4).uniform(-0.012, 0.012, 32)
    )
    take = beside_a_steady_kit(desk, sound)
    desk.act("rule", take=take, field="coarse", value="yes")
    numbers = desk.picture(take)["fit"]["numbers"]
    made = sound_of(desk.hand_off(takes=[take], start="lead-in", kind="wav32f")["pipes fitted.wav"])
    now, came = attack_starts(made, RATE), attack_starts(sound, RATE)
    assert len(now) == len(came), f"{len(came)} strokes became {len(now)}"
    moved, said = 1000 * float(np.max(np.abs(now - came)[::4])), abs(numbers["largest_ms"])
    assert abs(said - moved) < 3, f"says {said:.1f} ms, moves by {moved:.1f}"
    off = off_ms(now, beats[::4])
    assert off < 3, f"the first stroke of a bar lies {off:.1f} ms off its line"
    louder = 20 * np.log10([_peak(made, a) / _peak(sound, b) for a, b in zip(now, came, strict=True)])
    assert np.max(np.abs(louder)) < 0.5, f"a stroke is {louder[np.argmax(np.abs(louder))]:.1f} dB louder"
    return f"says {said:.1f} ms, moves by {moved:.1f} ms; all {len(now)} strokes are as loud as they were"


def _peak(sound: Sound, at_s: float) -> float:
    """The largest sample of the 10 ms from a moment on."""
    return float(np.abs(sound[round(at_s * RATE) :][: RATE // 100]).max())


# -- what is heard


@promise("Of several mics the one that hears the hats says how many they play to the beat")
def hats_of_mics(desk: Desk) -> str:
    rng, high = np.random.default_rng(3), signal.butter(4, 6000, "high", fs=RATE, output="sos")
    said = []
    for count in (2, 4):
        desk.begin(f"Hats {count}")
        beats = steady_beats(104, 10, 1.0)
        hits = (beats[:, None] + np.arange(count) * 60 / 104 / count).ravel()
        t = np.arange(round(0.15 * RATE)) / RATE
        deep = 0.6 * np.sin(2 * np.pi * 60 * t) * np.exp(-t / 0.05)
        mics = [1e-4 * rng.standard_normal(round((beats[-1] + 2) * RATE)) for _ in range(2)]
        for at in np.round(beats * RATE).astype(int):
            knock = deep + 0.05 * signal.sosfilt(high, rng.standard_normal(len(t))) * np.exp(-t / 0.01)
            mics[0][at : at + len(t)] += knock
            mics[1][at : at + len(t)] += 0.05 * deep
        for at in np.round(hits * RATE).astype(int):
            mics[1][at : at + len(t)] += (
                0.3 * signal.sosfilt(high, rng.standard_normal(len(t))) * np.exp(-t / 0.02)
            )
        takes = [
            desk.bring(f"{name}.wav", mic) for name, mic in zip(("drum low", "drum top"), mics, strict=True)
        ]
        desk.act("bundle", takes=takes, name="drum")
        found = re.search(r"Hats \(what rides in the highs\) play ([\w ]+)", desk.page("pace", takes[0]))
        assert found, "nothing is said of the hats"
        said.append(found[1].strip())
        assert said[-1].startswith({2: "two to", 4: "four to"}[count]), f"of {count} it says {said[-1]}"
    return f"of two and of four to the beat: {'; '.join(said)}"


@promise("Of a whole file nothing is said to be missing, and music that begins late is not called padded")
def whole_files(desk: Desk) -> str:
    sound = drums(steady_beats(120, 20, 1.237))
    said = []
    for name, header in (("tub kit.mp3", True), ("pan kit.mp3", False), ("tub kit.wav", True)):
        desk.begin(name)
        if name.endswith("mp3"):
            write_mp3(desk.folder / name, sound, RATE, header=header)
            take = desk.upload(name, (desk.folder / name).read_bytes())
        else:
            take = desk.bring(name, sound)
        text = " ".join(desk.page(station, take) for station in ("takes", "pace", "bars"))
        assert "announces" not in text, f"{name} is said to announce more than it holds"
        if not header:
            # Without its header the padding of its encoder stays in what is decoded.
            continue
        assert "padding" not in text, f"{name} is said to hold padding"
        made = sound_of(next(iter(desk.hand_off(takes=[take], start="lead-in").values())))
        first = float(attack_starts(made, RATE)[0])
        said.append(f"{name} {1000 * (first - 1.237):+.2f} ms")
        assert abs(first - 1.237) < NEAR_S, said
    return f"the first attack in what leaves, from where it was played: {', '.join(said)}"


# -- maps


@promise("Ramps, steps and smooth without anchors keep every bar line as near as is said beside them")
def without_anchors(desk: Desk) -> str:
    desk.begin("Breathing")
    bpm = 101 - 3 * np.cos(2 * np.pi * np.arange(64) / 64)
    beats = 1.0 + np.concatenate([[0], np.cumsum(60 / bpm)])
    desk.bring("tub kit.wav", drums(beats))
    said = []
    for shape in ("ramps", "steps", "smooth"):
        before = {bar["n"]: bar["s"] for bar in desk.picture()["bars"]}
        desk.act("curve", shape=shape, within_ms="10")
        data = desk.hand_off(takes=[], start="lead-in", extras=["json"])
        bars = json.loads(next(iter(data.values())))["bars"]
        moved = max(abs(bar["start_s"] - before[bar["bar"]]) for bar in bars if bar["bar"] in before)
        said.append(f"{shape} {1000 * moved:.1f}")
        sentence = desk.picture()["sentence"]
        desk.act("undo")
        assert moved <= 0.0101, f"{shape} moved a bar line by {1000 * moved:.1f} ms"
        assert "file" not in sentence, sentence
    return f"bar lines of a map that breathes move by up to {', '.join(said)} ms (10 is said)"


@promise("The session's own map, read back, lies where it was")
def map_back(desk: Desk) -> str:
    desk.begin("Map")
    beats = steady_beats(96, 10, 0.5, 0.006)
    desk.bring("tub kit.wav", drums(beats))
    desk.act("bar-1", time_s=float(beats[4]))
    worst = 0.0
    for start in ("bar 1", "bar 3", "lead-in"):
        before = {bar["n"]: bar["s"] for bar in desk.picture()["bars"]}
        made = desk.hand_off(takes=[], start=start, extras=["midi", "json", "csv"])
        for ending in (".mid", ".json", ".csv"):
            data = next(data for name, data in made.items() if name.endswith(ending))
            found = desk.ask("PUT", f"{desk.base}/map-file?name=night{ending}", data)
            desk.act("map-in", **{name: found[name] for name in ("knots", "meters", "name")})
            after = {bar["n"]: bar["s"] for bar in desk.picture()["bars"]}
            desk.act("undo")
            worst = max(worst, *(abs(after[number] - before[number]) for number in before if number in after))
    assert worst < 0.0002, f"a bar line moved by {1000 * worst:.1f} ms"
    return f"9 files from 3 starts: the farthest bar line moves by {1000 * worst:.3f} ms"


@promise("A map that the command line writes as MIDI is the same map when it is read")
def midi_back(desk: Desk) -> str:
    beats = steady_beats(96, 10, 0.5, 0.006)
    path, made = desk.folder / "tub kit.wav", desk.folder / "map.mid"
    sf.write(path, drums(beats), RATE, subtype="PCM_24")
    out = desk.folder / "map.json"
    with contextlib.redirect_stdout(io.StringIO()):
        assert command(["analyse", str(path), "--midi", str(made), "--json", str(out)]) == 0
    lines = [bar["start_s"] for bar in json.loads(out.read_text())["bars"] if bar["bar"] > 0]
    line = read_map(made)
    got = np.asarray(line.to_seconds(line.bar_lines(0, len(lines) - 1)))
    off = 1000 * float(np.max(np.abs(got - np.array(lines))))
    # 0.1 ms + 0.5 µs a quarter (docs/formats.md).
    assert off < 0.1 + 0.0005 * 40, f"{off:.3f} ms"
    return f"{len(lines)} bar lines within {off:.3f} ms"


@promise("The command line cuts a grid on its places, to the frame")
def cut_on_places(desk: Desk) -> str:
    beat = 60 / 92
    times = np.arange(16) * beat
    path, out = desk.folder / "pipe loop.wav", desk.folder / "cut"
    sf.write(path, struck(times, 16 * beat, low_every=4).samples[0], RATE, subtype="PCM_24")
    with contextlib.redirect_stdout(io.StringIO()):
        assert command(["cut", str(path), "-o", str(out), "--at", "1/1", "--from-bpm", "92"]) == 0
    lengths = [sf.info(file).frames for file in sorted(out.glob("*.wav"))]
    worst = max(abs(length - 4 * beat * RATE) for length in lengths)
    assert worst <= 1, f"{lengths}"
    return f"{len(lengths)} pieces of {min(lengths):,} to {max(lengths):,} frames"


@promise("A range that is no whole number of bars says how many it is, and where the next line is")
def odd_range(desk: Desk) -> str:
    beat = 60 / 118
    path, out = desk.folder / "tub kit.wav", desk.folder / "range.json"
    times = 0.5 + beat * np.arange(96)
    sf.write(path, struck(times, float(times[-1]) + 1.0, low_every=4).samples[0], RATE, subtype="PCM_24")
    edges = f"{0.5 + 4 * beat:.6f}-{0.5 + 11 * beat:.6f}"
    with contextlib.redirect_stdout(io.StringIO()):
        assert command(["measure", str(path), "--range", edges, "--json", str(out)]) == 0
    said = json.loads(out.read_text())
    assert not said["whole"] and said["sentence"].startswith("1.75 bars of 118"), said["sentence"]
    off = 1000 * abs(said["next_s"] - (0.5 + 12 * beat))
    assert off < 2, f"the next bar line is {off:.1f} ms off"
    return f"“{said['sentence'].split(':')[0]}”; the next line {off:.2f} ms from the played one"


@promise("A rounder tempo that holds to the end is in force, and is the tempo of the click that leaves")
def rounder(desk: Desk) -> str:
    rng = np.random.default_rng(5)
    beats = 0.5 + 60 / 112 * np.arange(128) + rng.uniform(-0.004, 0.004, 128)
    desk.begin("rounder")
    desk.bring("tub kit", drums(beats))
    desk.picture()
    (click,) = desk.hand_off(extras=["click"], start="bar 1").values()
    clicks = attack_starts(sound_of(click), RATE)
    tempo = 60 * (len(clicks) - 1) / float(clicks[-1] - clicks[0])
    # A click lies on a whole frame.
    assert abs(tempo - 112) < 0.0002, f"{tempo:.4f} BPM"
    return f"{tempo:.4f} BPM over {len(clicks)} clicks, played at 112 ± 4 ms"


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--only", default="", help="promises in whose words this stands")
    only = parser.parse_args().only.lower()
    broken = 0
    print("| promise | measured in what leaves | |\n|---|---|---|")
    with tempfile.TemporaryDirectory() as place:
        server = Server(Path(place) / "data").start()
        try:
            for one in PROMISES:
                if only not in one.words.lower():
                    continue
                folder = Path(tempfile.mkdtemp(dir=place))
                try:
                    found, kept = one.keep(Desk(server.address, folder)), True
                except Exception as error:
                    # Also where a file or a field that it speaks of is not there.
                    found, kept = f"{type(error).__name__}: {error}", False
                broken += not kept
                print(f"| {one.words} | {found} | {'kept' if kept else '**broken**'} |", flush=True)
        finally:
            server.stop()
    print(f"\n{broken} broken." if broken else "\nAll kept.", file=sys.stderr)
    return 1 if broken else 0


if __name__ == "__main__":
    sys.exit(main())
