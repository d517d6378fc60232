"""Speed, as ratios measured in one run. Never part of the tests."""
