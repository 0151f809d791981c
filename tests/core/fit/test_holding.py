import unittest

import numpy as np

from combpace.core.audio import ArraySource, Audio
from combpace.core.fit.follow import following
from combpace.core.fit.holding import BETWEEN_NOTES, beyond, in_all, notes_held
from combpace.core.fit.pauses import find_pauses
from combpace.core.fit.pegs import FACTOR_LIMITS, Fit, fit
from combpace.core.fit.rule import Rule
from combpace.core.stretch import METHODS, StretchedSource
from combpace.core.tempo.map import steady_map
from rig.sounds import marks

RATE = 44100
# Played loosely at 120 BPM: each note sounds for 250 ms, what follows is silent.
PLAYED = [0.5, 1.06, 1.44, 2.0, 2.6, 3.03, 3.5]


def pull(times: list[float], pauses: list[tuple[float, float]]) -> tuple[Fit, Fit]:
    line = steady_map(120, 0.0)
    made = fit(marks(times), line, following(line, line, 0.0, 5.0), line, 5.0, Rule(grid="1/4"))  # type: ignore[arg-type]
    return made, notes_held(made, pauses)


class HeldNotesTest(unittest.TestCase):
    def test_the_pause_takes_the_change(self) -> None:
        # 1.06 goes to 1.0: of .56 s are left .5; the note to .78 keeps its .28, the pause of .28 becomes .22.
        made, held = pull([0.5, 1.06], [(0.78, 1.055)])
        self.assertEqual(held.pauses, (0.78,))
        np.testing.assert_allclose(held.time_map.to_target([0.5, 0.78, 1.06]), [0.5, 0.78, 1.0], atol=1e-9)
        np.testing.assert_allclose(made.time_map.to_target([0.78]), [0.75], atol=1e-9)

    def test_it_stays_where_the_pause_cannot_take_it(self) -> None:
        for pauses, times in (
            ([(1.035, 1.055)], [0.5, 1.06]),  # 25 ms would have to give 60
            ([(0.7, 0.8)], [0.5, 1.06]),  # another note after it, without a mark
            ([(0.6, 0.7), (0.9, 1.055)], [0.5, 1.06]),  # several pauses: notes between them ride
            ([], [0.5, 1.06]),
        ):
            made, held = pull(times, pauses)
            self.assertIs(held, made)

    def test_a_pause_of_20_ms_must_be_left(self) -> None:
        # The pull takes 60 ms: a pause of 75 ms before it leaves 15, one of 85 leaves 25.
        for begins, pauses in ((0.985, ()), (0.975, (0.975,))):
            _, held = pull([0.5, 1.06], [(begins, 1.06)])
            self.assertEqual(held.pauses, pauses)

    def test_a_pause_that_ends_long_before_the_next_mark_is_followed_by_a_note(self) -> None:
        made, held = pull([0.5, 1.06], [(0.78, 1.02)])
        self.assertIs(held, made)
        self.assertEqual(pull([0.5, 1.06], [(0.78, 1.045)])[1].pauses, (0.78,))

    def test_another_tempo_makes_notes_as_long_as_it_makes_everything(self) -> None:
        # Played at 120, the session runs at 60: all of it lasts twice as long, notes too; what a peg adds is
        # taken by the pause.
        own, session = steady_map(120, 0.0), steady_map(60, 0.0)
        made = fit(marks([0.5, 1.06]), own, following(own, session, 0.0, 2.0), session, 2.0, None)  # type: ignore[arg-type]
        self.assertIs(notes_held(made, [(0.78, 1.055)]), made)
        pulled = fit(
            marks([0.5, 1.06]), own, following(own, session, 0.0, 2.0), session, 2.0, Rule(grid="1/4")
        )  # type: ignore[arg-type]
        np.testing.assert_allclose(
            notes_held(pulled, [(0.78, 1.055)]).time_map.to_target([0.5, 0.78, 1.06]),
            [1.0, 1.56, 2.0],
            atol=1e-9,
        )

    def test_a_pause_is_never_beyond_the_limits(self) -> None:
        _, held = pull([0.5, 1.2, 1.5], [(1.1, 1.19)])
        self.assertEqual(beyond(held, FACTOR_LIMITS), [])

    def test_a_bundle_pauses_where_all_its_mics_do(self) -> None:
        self.assertEqual(
            in_all([[(1.0, 2.0), (3.0, 3.5)], [(0.5, 1.4), (1.5, 1.9), (3.48, 4.0)]]),
            [(1.0, 1.4), (1.5, 1.9)],
        )
        self.assertEqual(in_all([]), [])

    def test_a_note_of_250_ms_is_250_ms_in_all_methods(self) -> None:
        t = np.arange(round(0.25 * RATE)) / RATE
        shape = np.minimum(1, np.minimum(t / 0.003, (0.25 - t) / 0.005))
        sound = 1e-5 * np.random.default_rng(1).standard_normal(5 * RATE)
        for k, time in enumerate(PLAYED):
            hz = 220 * 2 ** (k % 5 / 12)
            note = 0.3 * sum(np.sin(2 * np.pi * hz * m * t + m) / m for m in (1, 1.26, 1.5, 2, 3)) * shape
            at = round(time * RATE)
            sound[at : at + len(note)] += note
        source = ArraySource(Audio(sound[None].astype(np.float32), RATE))
        pauses = [(start / RATE, stop / RATE) for start, stop in find_pauses(source, BETWEEN_NOTES)]
        made, held = pull(PLAYED, pauses)
        self.assertEqual(len(held.pauses), 6)
        for method in METHODS:
            stretched = StretchedSource(source, held.time_map, method)
            out = np.abs(stretched.read(0, stretched.frames)).mean(axis=0)
            for peg in made.pegs:
                part = out[round(peg.target_s * RATE) :][: round(0.45 * RATE)]
                loud = np.maximum.reduceat(part, np.arange(0, len(part), 44))
                ends_s = float(np.flatnonzero(loud > 0.1 * loud[:200].max())[-1] + 1) * 44 / RATE
                self.assertAlmostEqual(ends_s, 0.25, delta=0.005, msg=f"{method} at {peg.take_s}")


if __name__ == "__main__":
    unittest.main()
