"""What tests and measurements both need: servers, browsers, sounds with known truth. Imports the application;
nothing of `tests` or `bench`.
"""

# Where the processes of one run of tests keep together what they heard (`rig/heard.py`); without it each
# keeps its own. It stands here because a run that measures lines must not import the application before.
HEARD_TOGETHER = "COMBPACE_TESTS_HEARD"
