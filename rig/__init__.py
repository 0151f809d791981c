"""What tests and measurements both need: servers, browsers, sounds with known truth. Imports the application;
nothing of `tests` or `bench`.
"""
