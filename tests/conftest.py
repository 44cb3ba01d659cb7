"""What holds for all tests."""

# The package first: it says how many threads linear algebra may have, before anything loads NumPy.
import northgate  # noqa: F401  isort: skip
from hypothesis import settings

from tests.support.exploring import EXPLORING

# How long an example takes is no property of what is tested. The same examples every time, so that a failure is one of
# the change at hand; NORTHGATE_EXPLORE=1 looks for new ones.
settings.register_profile("steady", deadline=None, derandomize=True)
settings.register_profile("exploring", deadline=None)
settings.load_profile("exploring" if EXPLORING else "steady")
