"""Mirrors src. Hypothesis has no deadlines here: a starved machine is no failure."""

from hypothesis import HealthCheck, settings

settings.register_profile("calm", deadline=None, suppress_health_check=[HealthCheck.too_slow])
settings.load_profile("calm")
