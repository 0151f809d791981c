"""Attacks: which rises of the sound are attacks, and where each of them starts."""
