"""Batches: resumed after being killed, and on a cluster."""
