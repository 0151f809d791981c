"""Pieces."""
