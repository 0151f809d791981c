"""Pieces: sound cut and laid without stretching."""
