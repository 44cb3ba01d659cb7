"""What holds for all tests."""

from hypothesis import settings

# How long an example takes is no property of what is tested.
settings.register_profile("untimed", deadline=None)
settings.load_profile("untimed")
