"""The heart: audio in arrays, musical time, onsets, beats, fitting and stretching.

Pure: standard library, numpy and scipy. No files, no database, no web, no clock, no randomness without a
seed.
"""
