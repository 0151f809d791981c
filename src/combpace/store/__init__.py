"""Rows and files. Knows neither sound nor music: what it keeps is bytes, text and numbers."""
