"""Musical time: maps, meters, anchors, grids, drift."""
