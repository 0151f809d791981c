"""Files that are not what they say: cut, flipped, forged, swapped, grown, made of nothing."""

from __future__ import annotations

import io
import random
import zipfile
from collections.abc import Iterator

import numpy as np
import soundfile as sf


def hostile_files(how_many: int, rng: random.Random) -> Iterator[tuple[str, bytes]]:
    """(name, bytes); the same for the same seed."""
    seeds = _whole_files()
    ways = (_cut, _flipped, _forged_head, _doubled, _swapped, _zeros_inside, _grown)
    texts = [
        ("list.m3u8", b"#EXTM3U\n#EXTINF:1,\n/etc/passwd\n#EXT-X-ENDLIST\n"),
        ("list.wav", b"ffconcat version 1.0\nfile '/etc/passwd'\n"),
        ("empty.flac", b""),
        ("one byte.mp3", b"\xff"),
        ("\u202egnos.wav", seeds[0][1][:3000]),
        ("a" * 300 + ".wav", seeds[0][1][:3000]),
        ("../../etc/x.wav", seeds[0][1][:3000]),
        ("zip.combpace", _zip_bomb()),
        ("nothing.combpace", b"PK\x05\x06" + bytes(18)),
    ]
    for k in range(how_many):
        if k < len(texts):
            yield texts[k]
            continue
        name, data = rng.choice(seeds)
        for _ in range(rng.randint(1, 3)):
            data = rng.choice(ways)(data, rng)
        yield f"h{k} {name}", data


def _whole_files() -> list[tuple[str, bytes]]:
    sound = (np.random.default_rng(1).uniform(-0.3, 0.3, 22050 * 2)).astype(np.float32)
    found = []
    for name, kind, subtype in (
        ("a.wav", "WAV", "PCM_16"),
        ("f.wav", "WAV", "FLOAT"),
        ("a.aiff", "AIFF", "PCM_24"),
        ("a.flac", "FLAC", "PCM_16"),
        ("a.ogg", "OGG", "VORBIS"),
        ("a.mp3", "MP3", "MPEG_LAYER_III"),
        ("big.wav", "RF64", "PCM_16"),
    ):
        out = io.BytesIO()
        sf.write(out, sound, 22050, format=kind, subtype=subtype)
        found.append((name, out.getvalue()))
    notes = b"\x00\xff\x51\x03\x07\xa1\x20\x00\x90\x3c\x40\x83\x60\x80\x3c\x00\x00\xff\x2f\x00"
    midi = b"MThd\x00\x00\x00\x06\x00\x01\x00\x01\x03\xc0MTrk" + len(notes).to_bytes(4, "big") + notes
    return [*found, ("a.mid", midi)]


def _zip_bomb() -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as pack:
        pack.writestr("manifest.json", b"0" * 30_000_000)
    return out.getvalue()


def _cut(data: bytes, rng: random.Random) -> bytes:
    return data[: rng.randint(0, len(data))]


def _flipped(data: bytes, rng: random.Random) -> bytes:
    made = bytearray(data)
    for _ in range(rng.randint(1, 60)):
        if made:
            made[rng.randrange(len(made))] ^= 1 << rng.randrange(8)
    return bytes(made)


def _forged_head(data: bytes, rng: random.Random) -> bytes:
    made = bytearray(data)
    for _ in range(rng.randint(1, 12)):
        if made:
            made[rng.randrange(min(64, len(made)))] = rng.choice((0, 0xFF, 0x7F, 0x80, rng.randrange(256)))
    return bytes(made)


def _doubled(data: bytes, rng: random.Random) -> bytes:
    return data + data[: rng.randint(0, len(data))]


def _swapped(data: bytes, rng: random.Random) -> bytes:
    at = rng.randint(0, len(data))
    return data[at:] + data[:at]


def _zeros_inside(data: bytes, rng: random.Random) -> bytes:
    at, many = rng.randint(0, len(data)), rng.randint(1, 5000)
    return data[:at] + bytes(many) + data[at + many :]


def _grown(data: bytes, rng: random.Random) -> bytes:
    return data + rng.randbytes(rng.randint(1, 20000))
