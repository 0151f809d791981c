"""Music with exact beats, downbeats and meters, composed and synthesised from a seed: what the pulse model is
learnt from.

A song is sections of bars with a groove, chords and parts; players wander, lean and miss. Nothing here
imitates a recording; patterns are the commonplaces of each style (common practice), varied at random, so that
what is learnt is how music marks its beats and not how any one piece does.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np
from scipy import signal

from bench.ear.grooves import METERS, Rng, chance, fill, groove, varied
from bench.ear.material import RATE, Sound, blown, deep_drum, small_metal, snap_drum
from bench.ear.parts import (
    Note,
    bass_part,
    chord_part,
    piano_part,
    picked_part,
    progression,
    riff_part,
    tones,
)
from combpace.core.audio import Audio


@dataclass(frozen=True, slots=True)
class Bar:
    """A bar: when it starts, its meter, the times of its beats."""

    start_s: float
    meter: str
    beats: tuple[float, ...]


@dataclass(frozen=True, slots=True)
class Song:
    """Sound, its bars, beats before bar 1, and spans in seconds where nothing is asked of a listener."""

    audio: Audio
    bars: list[Bar]
    pickup: tuple[float, ...]
    unasked: list[tuple[float, float]]
    kind: str
    onsets: list[tuple[float, bool]] = field(default_factory=list)


Make = Callable[[float, float, float], Sound]
# Share of strings that are not bright; of these, of those whose partials are as strong up to a corner as the
# lowest.
DARK, CORNERED = 0.65, 0.5


class Voice:
    """An instrument whose notes are made once per pitch and loudness and then placed."""

    def __init__(self, make: Make, lean_s: float = 0.0, is_drum: bool = False) -> None:
        self._make, self._longest, self._kept = make, 2.6, dict[tuple[int, int], Sound]()
        self.lean_s, self.is_drum, self._turn = lean_s, is_drum, 0

    def sound(self, pitch: int, velocity: float, held_s: float) -> Sound:
        loud = 2 if velocity < 0.65 else 4
        if self.is_drum:
            # No two strokes are alike, but three are enough.
            self._turn = (self._turn + 1) % 3
            pitch, held_s = self._turn, self._longest
        key = (pitch, loud)
        frames = round((held_s + 0.06) * RATE)
        if key not in self._kept or (
            not self.is_drum and len(self._kept[key]) < min(frames, round(self._longest * RATE))
        ):
            self._kept[key] = self._make(loud / 4, pitch, min(self._longest, 1.3 * held_s + 0.1)).astype(
                np.float32
            )
        whole = self._kept[key]
        frames = min(len(whole), frames)
        cut = whole[:frames].copy()
        fade = min(frames, round(0.06 * RATE))
        if frames < len(whole) and fade:
            cut[-fade:] *= np.linspace(1, 0, fade, dtype=np.float32) ** 2
        return cut * np.float32(velocity / (loud / 4))


def plucked(rng: Rng, hammered: bool) -> Make:
    """As `material.string`, without its damper and with fewer partials: hundreds of notes are needed here."""
    stiff, bright, ring = rng.uniform(0, 4e-4), rng.uniform(0.6, 1.6), rng.uniform(0.5, 3.0)
    noise, attack = rng.uniform(0.01, 0.15), rng.uniform(0.0002, 0.003 if hammered else 0.0008)
    most, top_hz = int(rng.integers(8, 28)), rng.uniform(1500, 7000)
    corner, steep = np.inf, 2.0
    if chance(rng, DARK):
        # Fingers, felt and soft picks: little is heard above 4 kHz, and the start is slower.
        bright, noise = (
            bright + rng.uniform(0, 0.7),
            noise * float(np.exp(rng.uniform(np.log(0.02), np.log(0.5)))),
        )
        attack = min(0.012, attack * float(np.exp(rng.uniform(0, np.log(10)))))
        if chance(rng, CORNERED):
            bright, corner, steep = (
                rng.uniform(0.1, 0.8),
                float(np.exp(rng.uniform(np.log(900), np.log(4500)))),
                rng.uniform(2, 5),
            )
    # What a string is stretched on sounds, too.
    body, body_hz, body_s = (
        rng.uniform(0, 1.5) * chance(rng, 0.5),
        rng.uniform(70, 300),
        rng.uniform(0.01, 0.05),
    )

    def play(v: float, pitch: float, held: float) -> Sound:
        f = 440 * 2 ** ((pitch - 69) / 12)
        t = np.arange(round((held + 0.06) * RATE), dtype=np.float32) / np.float32(RATE)
        fall, decay = np.exp(-t * np.float32(0.5 / ring)), np.exp(-t * np.float32(0.8 / ring))
        out = np.zeros(len(t), np.float32)
        for k in range(1, most):
            fk = f * k * np.sqrt(1 + stiff * k * k)
            if fk < 11000:
                level = (0.6 + 0.4 * v) ** k / k**bright / (1 + (fk / corner) ** steep)
                out += (
                    np.sin(np.float32(2 * np.pi * fk) * t + np.float32(rng.uniform(0, 6)))
                    * decay
                    * np.float32(level)
                )
                decay *= fall
        crack = min(len(t), round(0.03 * RATE))
        out[:crack] += noise * 8 * _hiss(rng, crack, top_hz) * np.exp(-t[:crack] / 0.006)
        if body:
            out += body * np.sin(2 * np.pi * body_hz * t) * np.exp(-t / body_s)
        return v * 0.4 * out * np.minimum(1, t / attack)

    return play


def _hiss(rng: Rng, frames: int, top_hz: float) -> Sound:
    sos = signal.butter(2, (800, top_hz), "bandpass", fs=RATE, output="sos")
    return signal.sosfilt(sos, rng.standard_normal(frames + 256))[256:]


def struck(make: Callable[[float], Sound]) -> Make:
    return lambda v, _pitch, _held: make(v)


def shelled(rng: Rng, make: Callable[[float], Sound]) -> Callable[[float], Sound]:
    """A drum whose shell is heard: noise below a kilohertz that is gone soon."""
    loud, low, decay = rng.uniform(0, 0.8) * chance(rng, 0.6), rng.uniform(100, 400), rng.uniform(0.01, 0.08)
    sos = signal.butter(2, (low, 2.5 * low), "bandpass", fs=RATE, output="sos")

    def strike(v: float) -> Sound:
        out = make(v)
        if loud:
            noise = signal.sosfilt(sos, rng.standard_normal(len(out)))
            out = out + v * loud * noise / (np.abs(noise).max() + 1e-9) * np.exp(
                -np.arange(len(out)) / (decay * RATE)
            )
        return out

    return strike


# --- the song


@dataclass
class _Player:
    voice: Voice
    jitter_s: float
    level: float
    spread_s: float = 0.0
    driven: bool = False


class Amp:
    """A driven amplifier with its cabinet: every chord is a block of sound, its attack more a change than a
    rise.
    """

    def __init__(self, rng: Rng) -> None:
        self._drive = float(np.exp(rng.uniform(np.log(2), np.log(90))))
        self._stages = int(rng.integers(1, 4))
        self._lean = float(rng.uniform(0, 0.3))
        self._tone = signal.butter(2, rng.uniform(200, 900), "highpass", fs=RATE, output="sos")
        self._between = signal.butter(
            1, (rng.uniform(60, 200), rng.uniform(4000, 9000)), "bandpass", fs=RATE, output="sos"
        )
        self._box = signal.butter(
            int(rng.integers(2, 5)),
            (rng.uniform(60, 140), rng.uniform(3000, 6500)),
            "bandpass",
            fs=RATE,
            output="sos",
        )
        self._twice_s = rng.uniform(0.004, 0.022) if chance(rng, 0.35) else 0.0
        self._gate = 10 ** rng.uniform(-2.6, -1.6) if chance(rng, 0.35) else 0.0
        self._hum = 10 ** rng.uniform(-4.5, -2.5)
        self._rng = rng

    def __call__(self, dry: Sound) -> Sound:
        peak = float(np.abs(dry).max()) + 1e-9
        pushed = (
            dry / peak
            + 0.7 * signal.sosfilt(self._tone, dry / peak)
            + self._hum * self._rng.standard_normal(len(dry))
        )
        if self._gate:
            # Shut between strokes: what rings after a muted one is gone.
            level = signal.lfilter([0.002], [1, -0.998], np.abs(pushed))
            pushed = pushed * np.clip(level / self._gate, 0, 1)
        out = pushed
        for _ in range(self._stages):
            # Bent to one side: even harmonics, as valves have them.
            out = signal.sosfilt(self._between, np.tanh(self._drive ** (1 / self._stages) * out + self._lean))
        out = signal.sosfilt(self._box, out)
        if self._twice_s:
            late = round(self._twice_s * RATE)
            out[late:] += 0.8 * out[:-late]
        return np.asarray(out / (np.abs(out).max() + 1e-9), np.float32)


def _drums(rng: Rng) -> dict[str, Make]:
    deep, snap, metal = shelled(rng, deep_drum(rng)), shelled(rng, snap_drum(rng)), small_metal(rng)
    long_metal = small_metal(rng)
    side, clap = snap_drum(rng), snap_drum(rng)
    tom = shelled(rng, deep_drum(rng))
    ghosts = snap if chance(rng, 0.7) else snap_drum(rng)
    kit = {
        "kick": deep, "snare": snap, "hat": metal, "ghost": ghosts, "side": side, "clap": clap,
        "ride": long_metal, "pedal": metal,
        "open": long_metal, "tom1": tom, "tom2": deep_drum(rng), "shaker": small_metal(rng),
        "crash": small_metal(rng), "stick": side,
    }  # fmt: skip
    return {name: struck(make) for name, make in kit.items()}


def _strings(rng: Rng, part: str) -> Make:
    return plucked(rng, hammered=part in ("piano", "stab"))


@dataclass(frozen=True, slots=True)
class Instruments:
    """What songs are played on; each draws one. A sound is made of (loudness 0-1, pitch as a MIDI note,
    seconds held).

    drums    of each name one
    strings  for a part: plucked and hammered ones
    held     reeds, voices, bows
    """

    drums: Callable[[Rng], dict[str, Make]]
    strings: Callable[[Rng, str], Make]
    held: Callable[[Rng], Make]


SYNTHESISED = Instruments(_drums, _strings, blown)


def _kit(rng: Rng, instruments: Instruments) -> dict[str, Voice]:
    return {name: Voice(make, is_drum=True) for name, make in instruments.drums(rng).items()}


def _beats(rng: Rng, meters: list[str], bpm: float, how: str, start: float) -> list[list[float]]:
    """Beat times bar by bar; the quarter keeps its tempo where a meter changes, however a beat is written."""
    unit = {"7/8": 0.5, "6/8": 1.5}
    count = sum(METERS[m][0] for m in meters)
    wander = np.zeros(count + 1)
    if how != "programmed":
        slow = np.cumsum(rng.standard_normal(count + 1))
        wander = np.clip(slow * rng.uniform(0.001, 0.006), -0.12, 0.12)
    if how == "ramp":
        wander = wander + np.linspace(0, rng.uniform(-0.35, 0.35), count + 1) * (
            1 if chance(rng, 0.5) else np.linspace(0, 1, count + 1)
        )
    if how == "free":
        wander = wander + 0.07 * np.sin(
            np.arange(count + 1) * 2 * np.pi / rng.uniform(6, 24) + rng.uniform(0, 6)
        )
    time, k, out = start, 0, []
    for meter in meters:
        bar = []
        for _ in range(METERS[meter][0]):
            bar.append(time)
            time += 60 / bpm * unit.get(meter, 1.0) * float(np.exp(-wander[k]))
            k += 1
        out.append(bar)
    out.append([time])
    return out


KINDS = (
    "drums",
    "drums",
    "band",
    "band",
    "loud",
    "loud",
    "picked",
    "picked",
    "strum",
    "chug",
    "riff",
    "piano",
    "sparse",
    "pair",
    "drums",
    "riff",
)


def song(seed: int, seconds: float = 24.0, instruments: Instruments = SYNTHESISED) -> Song:
    """One song of about `seconds`; kinds of music take turns with the seed, everything else is drawn from
    it.
    """
    rng = np.random.default_rng([seed, 77])
    kind = "click" if seed % 25 == 24 else KINDS[seed % len(KINDS)]
    meter = str(rng.choice(["4/4", "3/4", "5/4", "6/8", "7/8"], p=[0.56, 0.14, 0.08, 0.10, 0.12]))
    first_groove, style = groove(rng, meter)
    low, high = {"6/8": (40, 85), "7/8": (75, 165), "5/4": (70, 185), "3/4": (65, 200)}.get(meter, (62, 185))
    if style in ("swing",):
        low, high = 90, 230
    elif style in ("half", "rolls"):
        low, high = 90, 180
    elif style in ("double", "train"):
        low, high = 60, 125
    elif style in ("rush", "wall"):
        low, high = 110, 215
    bpm = float(np.exp(rng.uniform(np.log(low), np.log(high))))
    if kind in ("piano", "picked", "strum") and meter == "4/4":
        bpm = float(np.exp(rng.uniform(np.log(60), np.log(150))))
    if kind == "click":
        bpm = float(np.exp(rng.uniform(np.log(30), np.log(300)))) * (0.5 if meter == "7/8" else 1.0)
    if meter == "6/8":
        bpm *= 1.5  # quarters a minute: the beat is the dotted quarter
    how = (
        str(rng.choice(["human", "human", "human", "programmed", "ramp", "free"]))
        if kind != "piano"
        else str(rng.choice(["human", "free", "ramp"]))
    )
    quarters = {"7/8": 3.5, "6/8": 3.0, "3/4": 3.0, "5/4": 5.0}.get(meter, 4.0)
    bars = max(4, round(seconds * bpm / 60 / quarters))
    meters = [meter] * bars
    if chance(rng, 0.16) and bars >= 8:
        # The meter changes once for good, or for single bars that come back.
        other = str(rng.choice([m for m in METERS if m != meter]))
        at = int(rng.integers(3, bars - 3))
        if chance(rng, 0.7):
            meters[at:] = [other] * (bars - at)
        else:
            for k in range(at, bars, int(rng.integers(4, 9))):
                meters[k] = str(rng.choice(["3/4", "5/4"])) if meter == "4/4" else "4/4"

    lead = float(rng.choice([0.0, rng.uniform(0.05, 0.8), rng.uniform(0.3, 1.5)], p=[0.25, 0.5, 0.25]))
    intro = (
        "none"
        if kind in ("sparse", "click")
        else str(rng.choice(["none", "free", "pickup", "build", "count"], p=[0.6, 0.1, 0.12, 0.13, 0.05]))
    )
    if intro == "free":
        lead += rng.uniform(3, 9)
    pickup_beats = int(rng.integers(1, 3)) if intro == "pickup" else 0
    beat_s = 60 / bpm * {"7/8": 0.5, "6/8": 1.5}.get(meter, 1.0)
    start = lead + pickup_beats * beat_s + (METERS[meter][0] * beat_s if intro == "count" else 0)
    times = _beats(rng, meters, bpm, how, start)
    flat = np.array([t for bar in times for t in bar])
    firsts = np.cumsum([0] + [len(bar) for bar in times])[:-1]
    end = float(flat[-1])
    tail = float(rng.choice([0.0, rng.uniform(0.3, 2.5)]))
    frames = round((end + tail) * RATE)
    mix = np.zeros(frames + RATE, np.float32)
    notes_at: list[tuple[float, bool]] = []
    closed = False
    human = 0.0 if how == "programmed" else float(rng.uniform(0.002, 0.011))

    def when(bar: int, place: float) -> float:
        index = firsts[bar] + place
        whole = int(np.floor(index))
        whole = min(max(whole, 0), len(flat) - 2)
        return float(flat[whole] + (index - whole) * (flat[whole + 1] - flat[whole]))

    def put(
        player: _Player, time: float, pitch: int, velocity: float, held_s: float, optional: bool = False
    ) -> None:
        time += player.voice.lean_s + player.jitter_s * float(np.clip(rng.standard_normal(), -2.5, 2.5))
        at = max(0, round(time * RATE))
        sound = player.voice.sound(
            pitch, float(np.clip(velocity * rng.uniform(0.85, 1.1), 0.05, 1.2)), held_s
        )
        stop = min(len(mix), at + len(sound))
        if at < stop:
            (driven if player.driven else mix)[at:stop] += np.float32(player.level) * sound[: stop - at]
            notes_at.append((at / RATE, optional))

    # Drums
    # ------------------------------------------------------------------------------------------------------
    if kind == "click":
        voices = _kit(rng, instruments)
        weak, strong = (
            str(rng.choice(["stick", "hat", "side", "clap"])),
            str(rng.choice(["kick", "snare", "stick", "tom1"])),
        )
        marked, loud = chance(rng, 0.6), float(rng.uniform(0.4, 0.9))
        for b, now in enumerate(meters):
            for place in range(METERS[now][0]):
                name = strong if marked and place == 0 else weak
                put(
                    _Player(voices[name], 0.0, 1.0),
                    when(b, float(place)),
                    60,
                    0.95 if name == strong else loud,
                    1.0,
                )
    if kind in ("drums", "band", "loud", "sparse", "pair"):
        kit = _kit(rng, instruments)
        levels = {name: float(rng.uniform(0.6, 1.0)) for name in kit}
        for name in ("hat", "ride", "pedal", "shaker", "open"):
            levels[name] = float(np.exp(rng.uniform(np.log(0.08), np.log(0.6))))
        if kind == "pair":
            # A few drums and a line; or the mic of a few drums, with the rest of the kit bleeding into it.
            near, away = (
                rng.choice(list(kit), 4),
                float(np.exp(rng.uniform(np.log(0.01), np.log(0.05)))) if chance(rng, 0.6) else 0.25,
            )
            for name in kit:
                if name not in near:
                    levels[name] *= away
        players = {name: _Player(voice, human, levels[name]) for name, voice in kit.items()}
        swing = (
            float(rng.choice([0.5, 0.5, 0.5, 0.5, rng.uniform(0.54, 0.68)]))
            if style not in ("swing", "shuffle") and meter != "7/8"
            else 0.5
        )
        current, known = list(first_groove), {meter: list(first_groove)}
        section = int(rng.choice([4, 4, 8, 8, 16]))
        sparse = kind == "sparse"
        often = {"hat": 0.4, "ride": 0.35, "shaker": 0.35, "ghost": 0.3, "snare": 0.85, "kick": 0.9}
        keep = {name: chance(rng, p) for name, p in often.items()} if sparse else {}
        if sparse and not (keep["kick"] or keep["snare"]):
            keep["kick"] = True
        entries = {name: int(rng.integers(0, 6)) for name in kit} if intro == "build" else {}
        thin = float(rng.uniform(0, 0.06))
        for b, now in enumerate(meters):
            beats, steps = METERS[now]
            if now not in known:
                known[now] = groove(rng, now)[0]
            if b and b % section == 0 and not sparse and chance(rng, 0.35) and now == meter:
                known[now] = (
                    groove(rng, now)[0]
                    if now != "4/4" or chance(rng, 0.6 if kind == "loud" else 0.3)
                    else varied(rng, known[now], beats)
                )
            current = known[now]
            filled = (
                fill(rng, beats, steps) if (b + 1) % section == 0 and not sparse and chance(rng, 0.7) else []
            )
            from_place = min((h[0] for h in filled), default=99.0)
            hits = [h for h in current if h[0] < from_place - 1e-6] + filled
            if (b % section == 0 and b > 0 and chance(rng, 0.5) and not sparse) or (
                b == 0 and chance(rng, 0.3)
            ):
                hits = [*hits, (0.0, "crash", 0.7)]
            silent = not sparse and chance(rng, 0.012)
            for place, name, velocity in hits:
                if (
                    silent
                    or chance(rng, thin)
                    or (sparse and not keep.get(name, True))
                    or b < entries.get(name, 0)
                ):
                    continue
                if abs(place % 1 - 0.5) < 0.01 and swing != 0.5:
                    place = np.floor(place) + swing
                put(
                    players[name],
                    when(b, place),
                    60,
                    velocity,
                    2.0,
                    optional=name == "ghost" or levels[name] < 0.05,
                )
            if not sparse and chance(rng, 0.15) and steps == 4:
                put(
                    players["ghost"],
                    when(b, float(rng.integers(4 * beats)) / 4),
                    60,
                    0.25,
                    1.0,
                    optional=True,
                )
        if chance(rng, 0.2) and tail > 0.3:
            closed = True
            put(players["kick"], end, 60, 0.9, 2.0)
            put(players["crash"], end, 60, 0.8, 2.0)
        if intro == "count":
            for k in range(METERS[meter][0]):
                put(players["stick"], start - (METERS[meter][0] - k) * beat_s, 60, 0.6, 0.3)
        if intro == "pickup":
            for place in np.arange(-pickup_beats, 0, 1 / METERS[meter][1]):
                if place == -pickup_beats or chance(rng, 0.7):
                    put(
                        players[str(rng.choice(["snare", "tom1", "kick"]))],
                        start + place * beat_s,
                        60,
                        0.7,
                        1.0,
                    )
        if intro == "free":
            t = rng.uniform(0.1, 0.8)
            while t < start - 0.4:
                put(
                    players[str(rng.choice(["crash", "ride", "tom1", "tom2", "kick", "snare", "ghost"]))],
                    t,
                    60,
                    rng.uniform(0.3, 0.9),
                    2.0,
                )
                t += float(np.exp(rng.uniform(np.log(0.07), np.log(1.6))))

    # Pitch
    # ------------------------------------------------------------------------------------------------------
    tonic = int(rng.integers(38, 50))
    chords = progression(rng)
    each = int(rng.choice([1, 1, 1, 2]))
    wanted: list[tuple[str, int, float]] = []
    if kind in ("band", "loud"):
        wanted.append(("bass", -12, rng.uniform(0.5, 1)))
        for name, p in (
            ("strum", 0.35),
            ("chug", 0.4 if kind == "loud" else 0.1),
            ("riff", 0.5 if kind == "loud" else 0.05),
            ("picked", 0.35),
            ("piano", 0.3),
            ("pad", 0.35),
            ("stab", 0.2),
        ):
            if chance(rng, p):
                wanted.append((name, int(rng.choice([0, 12])), rng.uniform(0.2, 0.9)))
    elif kind in ("picked", "strum", "chug", "riff", "piano"):
        wanted.append((kind, 0 if kind in ("chug", "riff") else int(rng.choice([2, 7, 12])), 1.0))
        if kind in ("chug", "riff") and chance(rng, 0.35):
            # A second guitar beside the first: the same again, or a line above it.
            wanted.append(
                (kind if chance(rng, 0.6) else "picked", 0 if chance(rng, 0.6) else 12, rng.uniform(0.4, 1))
            )
        if kind == "picked" and chance(rng, 0.15):
            wanted.append(("bass", -12, 0.5))
    elif kind == "pair":
        wanted.append((str(rng.choice(["bass", "picked", "strum", "stab"])), 0, rng.uniform(0.6, 1)))
    amp = Amp(rng) if kind in ("chug", "riff", "loud") or chance(rng, 0.08) else None
    driven = np.zeros_like(mix)
    for name, up, level in wanted:
        if name == "pad":
            voice = Voice(instruments.held(rng), float(rng.normal(0, 0.008)) if human else 0.0)
        else:
            voice = Voice(instruments.strings(rng, name), float(rng.normal(0, 0.004)) if human else 0.0)
        spread = (
            float(rng.uniform(0.004, 0.016))
            if name == "strum"
            else (float(rng.uniform(0, 0.012)) if name == "piano" else 0.0)
        )
        player = _Player(
            voice,
            human * (1.4 if name == "piano" else 1.0),
            float(level),
            spread,
            amp is not None and name in ("chug", "riff", "strum", "picked"),
        )
        made: dict[str, Callable[[int, tuple[int, int]], list[Note]]] = {}
        since = int(rng.integers(0, 5)) if intro == "build" else 0
        for b, now in enumerate(meters):
            beats, steps = METERS[now]
            if now not in made or (b % 8 == 0 and b and chance(rng, 0.2)):
                made[now] = {
                    "picked": lambda: picked_part(rng, beats, steps),  # noqa: B023 - called at once
                    "riff": lambda: riff_part(rng, beats, steps),  # noqa: B023
                    "bass": lambda: bass_part(rng, beats, steps, style == "swing" and chance(rng, 0.8)),  # noqa: B023
                    "piano": lambda: piano_part(rng, beats, steps),  # noqa: B023
                }.get(name, lambda: chord_part(rng, beats, steps, name))()  # noqa: B023
            if b < since:
                continue
            chord = chords[(b // each) % len(chords)]
            order = -1
            before = -1.0
            for place, pitch, velocity, held in made[now](b, chord):
                order = order + 1 if abs(place - before) < 1e-6 else 0
                before = place
                time = when(b, place)
                held_s = when(b, min(place + held, beats)) - time if place + held <= beats else held * beat_s
                put(
                    player,
                    time + order * player.spread_s * rng.uniform(0.7, 1.3),
                    tonic + up + pitch,
                    velocity,
                    max(0.05, held_s),
                    optional=order > 0,
                )
        if chance(rng, 0.35) and tail > 0.3:
            closed = True
            for pitch in tones(chords[0]):
                put(player, end, tonic + up + pitch, 0.8, tail)
        if intro == "pickup" and kind not in ("drums", "sparse"):
            for k in range(pickup_beats):
                put(
                    player,
                    start - (k + 1) * beat_s,
                    tonic + up + int(rng.choice([7, 11, 12, 5])),
                    0.6,
                    beat_s,
                )
        if intro == "free" and kind not in ("drums", "sparse"):
            t = rng.uniform(0.1, 0.8)
            while t < start - 0.5:
                chord = chords[int(rng.integers(len(chords)))]
                for pitch in tones(chord)[: int(rng.integers(1, 4))]:
                    put(
                        player,
                        t,
                        tonic + up + pitch,
                        float(rng.uniform(0.3, 0.8)),
                        float(rng.uniform(0.3, 2.0)),
                    )
                t += float(np.exp(rng.uniform(np.log(0.15), np.log(2.0))))

    if amp is not None and driven.any():
        loudest = float(np.abs(mix).max())
        mix = mix + amp(driven) * np.float32(
            (loudest or 1.0) * np.exp(rng.uniform(np.log(0.25), np.log(1.2))) if kind == "loud" else 1.0
        )
    mix = mix[:frames]
    if kind == "loud" and chance(rng, 0.7):
        # Mastered: the loud parts are pressed together.
        mix = np.tanh(rng.uniform(1.5, 6) * mix / (np.abs(mix).max() + 1e-9)).astype(np.float32)
    if kind != "sparse" and chance(rng, 0.6):
        length = round(rng.uniform(0.1, 0.8) * RATE)
        echo = (
            rng.standard_normal(length)
            * np.exp(-np.arange(length) / (0.25 * length))
            * rng.uniform(0.004, 0.02)
        )
        mix = mix + signal.fftconvolve(mix, echo.astype(np.float32))[: len(mix)]
    if chance(rng, 0.15):
        mix = np.tanh(rng.uniform(1.2, 4) * mix / (np.abs(mix).max() + 1e-9))
    if chance(rng, 0.3):
        tilt = signal.butter(
            1, rng.uniform(500, 6000), str(rng.choice(["lowpass", "highpass"])), fs=RATE, output="sos"
        )
        mix = mix + rng.uniform(0.5, 3) * signal.sosfilt(tilt, mix)
    mix = mix / (np.abs(mix).max() + 1e-9) * rng.uniform(0.2, 0.98)
    if how != "programmed" or chance(rng, 0.3):
        mix = mix + 10 ** rng.uniform(-5.5, -3.0) * rng.standard_normal(len(mix))
    made_bars = [Bar(bar[0], m, tuple(bar)) for bar, m in zip(times, meters, strict=False)]
    pickup = tuple(start - (k + 1) * beat_s for k in reversed(range(pickup_beats)))
    # A last stroke where the next bar would begin may be called a beat or not.
    unasked = [(end - 0.1, end + 0.15)] if closed else []
    if intro == "count":
        unasked.append((0.0, start - 0.1))
    onsets = sorted(note for note in notes_at if note[0] < len(mix) / RATE - 0.1)
    return Song(Audio(np.asarray(mix, np.float32), RATE), made_bars, pickup, unasked, kind, onsets)
