"""Small learnt networks: their layers, and their weights beside this file."""
