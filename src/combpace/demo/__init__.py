"""The Heron Street Steam Laundry Orchestra: made-up players, every sound synthesised from a seed, with exact
truth.
"""
