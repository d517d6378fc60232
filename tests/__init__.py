"""Tests mirror the folders of the code. Slow machines are no fault of what is tested."""

from hypothesis import HealthCheck, settings

settings.register_profile("house", deadline=None, suppress_health_check=[HealthCheck.too_slow])
settings.load_profile("house")
