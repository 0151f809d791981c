"""Bars: the tempo map, corrected by hand."""
