"""Sounds made here: the click."""
