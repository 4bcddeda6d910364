"""The tests; none of them fails because the machine is busy, property tests included."""

from hypothesis import HealthCheck, settings

settings.register_profile("unhurried", deadline=None, suppress_health_check=[HealthCheck.too_slow])
settings.load_profile("unhurried")
