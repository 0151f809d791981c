"""Pages, rendered whole by the server."""
