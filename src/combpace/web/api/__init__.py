"""The wire: JSON and binary, for the pages and for scripts."""
