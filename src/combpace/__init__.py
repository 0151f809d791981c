"""Comb Pace: find the pace of played audio, lay bar lines on its downbeats, pull other audio onto them."""

__version__ = "0.1.0"
