"""A session's document: its values, how they are kept, and older forms."""
