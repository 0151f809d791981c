"""What the reasons in Look here mean: a page of short explanations, one for each kind of place."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Explanation:
    """title: the kind of place; text: what was seen, why it may be wrong, and what can be done, in a few
    sentences.
    """

    title: str
    text: str


EXPLAINED: dict[str, Explanation] = {
    "unsure-bar": Explanation(
        "A bar that is not sure",
        "The pulse is weak here, or nothing is struck on the bar line, so the line was laid by its "
        "neighbours. Play it with the click. "
        "If it is right, lock it. If not, choose the attack that belongs on the line and press D, "
        "or pull it there.",
    ),
    "unplaced": Explanation(
        "What the rule cannot place",
        "This onset has no place of its own on the grid: it is farther off than what is ignored, another one "
        "is nearer to its place, or it goes so far that the next place may be meant. It rides between its "
        "neighbours. Pull it to a place, or say that it rides, and it is no longer listed.",
    ),
    "differs": Explanation(
        "A fit that sounds different from before",
        "This sentence was stated with an older version of the program. Strength, leave alone, ignore and "
        "bars acted only on what lay between the beats then; what was struck on a beat always went to its "
        "line. Now they act on all of it. Hear it; if it is right, say so, or change the sentence.",
    ),
    "lost": Explanation(
        "What you stated does not hold",
        "The take was listened to anew, and in the beats that are heard now not everything can hold that you "
        "stated. What was stated first holds; the rest is kept and moves nothing. Take it back, or state it "
        "anew.",
    ),
    "off-line": Explanation(
        "The first attack lies beside the line",
        "In most bars the first attack lies on the line; here it is farther off than usual. Either "
        "the player was early or late, and the line "
        "is right; or the line is wrong. A move is proposed only where more attacks speak for it. "
        "It moves this line alone.",
    ),
    "jump": Explanation(
        "The tempo jumps",
        "This bar is much longer or shorter than those about it. Often one line stands on the "
        "wrong attack. Hear it: if the band did stumble, "
        "lock the line; if not, even it out or move the line by hand.",
    ),
    "odd-bar": Explanation(
        "A bar of another length",
        "One bar has more or fewer beats than those about it. It may be written so; or a beat was "
        "missed or counted twice. Hear both ways. "
        "What you confirmed as downbeats stays downbeats: if the count between two does not come "
        "out, the odd bar stands before the second.",
    ),
    "meter": Explanation(
        "The meter changes",
        "From here on bars seem to have another number of beats. If they do, lock it. If not, let "
        "the meter before go on, or move the change "
        "by one beat.",
    ),
    "drift": Explanation(
        "The tempo is a little wrong",
        "Each bar the attacks come a little earlier or later than the grid, always in the same "
        "direction, and it adds up. The proposed tempo "
        "takes the slope out. The bar is named from which on you would hear it.",
    ),
    "wanders": Explanation(
        "One tempo does not hold it",
        "The session has one steady tempo, but the playing speeds up and slows down against it by "
        "more than a player's usual scatter. Follow it "
        "as played, and the bar lines breathe with it; or keep the tempo, and pull the take onto it in Fit.",
    ),
    "reading": Explanation(
        "It can be counted in more than one way",
        "Half or twice the tempo, three beats or four, the first beat one later: several ways to "
        "count explain the attacks about equally well. "
        "Hear them against the click and use the one you would count. The audio is not changed by that.",
    ),
    "padding": Explanation(
        "Everything is late by the same amount",
        "Programs that write MP3 and the like put some silence before the sound. A click-made beat "
        "then starts late by that. Only the placement "
        "is changed when you take it off; no sample is cut.",
    ),
    "mark": Explanation(
        "A mark that may be none",
        "What rises here is weak, is another microphone's sound, or hides in something that rings "
        "on. A mark that is wrong bends what is fitted "
        "by it. Hear it; remove it, move it onto the attack, or lock it.",
    ),
    "apart": Explanation(
        "Two who play the same are apart",
        "Another take plays this note too, at another moment. If they are meant to be together, "
        "bring one to the other: only this note moves.",
    ),
    "limit": Explanation(
        "Stretched beyond the limit",
        "Between two pulled onsets the audio would be squeezed or spread by more than sounds well. "
        "Usually one of them is pulled to the wrong place. "
        "Let it ride, and it keeps its place between its neighbours; or pull it elsewhere.",
    ),
    "proof": Explanation(
        "Not where it should be in the render",
        "The render was listened to again, and this attack is not heard on its place. Mostly its "
        "mark was late or early, sometimes it is too soft "
        "to be heard. See its mark in Onsets, or let it ride.",
    ),
    "cuts": Explanation(
        "Marks moved after the cut",
        "This take was cut at its marks, and some of them were moved since. The cuts can be moved "
        "after them; pieces stay where they lie.",
    ),
    "bundle": Explanation(
        "Recorded together?",
        "Takes with the same attacks at the same moments are mostly microphones on one "
        "performance. As a bundle they are stretched as one, so that "
        "their phase stays. If they were played apart, say so.",
    ),
    "no-pulse": Explanation(
        "No pulse was found",
        "Its attacks are too soft, too few or too free to be followed. It can be placed and heard. "
        "State its tempo to fit it, tap along in Pace, or "
        "stretch it from one tempo to another.",
    ),
    "early-loop": Explanation(
        "A loop begins before its bar 1",
        "The first attack of the loop lies before what was read as its bar 1, so it sounds early "
        "in the session. Correct its own bars in Bars.",
    ),
    "part-map": Explanation(
        "A MIDI file with a tempo map",
        "The file brings tempo changes of its own. The part follows the session's map now; the "
        "session can take the file's map instead.",
    ),
    "unread": Explanation(
        "A file could not be read",
        "The reason stands beside it. The file is kept as it came; nothing else is touched. Listen "
        "again, or bring the sound in another format.",
    ),
    "wanted": Explanation(
        "A take without its sound",
        "The session came as an archive without sound. Drop the file that is named: it is known by "
        "its content, whatever it is called.",
    ),
    "as-it-came": Explanation(
        "A file is not what it says",
        "Its header announces another length, part of it is damaged, or it holds values that are "
        "no sound. What could be "
        "read was imported, in its place.",
    ),
    "older-ear": Explanation(
        "Heard by an earlier version",
        "This version may hear more, or place marks better. Listening again changes no bar and no "
        "mark that you corrected.",
    ),
    "reading-now": Explanation(
        "Still being read",
        "A take that is not read yet is left out of a hand-off. Wait for it, or hand off without it.",
    ),
}
