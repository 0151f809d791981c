"""Use cases, one a function: what pages, the wire and the command line call."""
