"""Parts: notes that follow a map."""
