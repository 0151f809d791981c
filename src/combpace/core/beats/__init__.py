"""Beats and bars: activations, readings (ways to count), the chosen one, how sure each beat and bar is."""
