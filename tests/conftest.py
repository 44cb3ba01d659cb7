"""What holds for all tests."""

import gc
from pathlib import Path

# The package first: it says how many threads linear algebra may have, before anything loads NumPy.
import northgate  # noqa: F401  isort: skip
import pytest
from hypothesis import settings

from northgate.loading import MORE_OBJECTS
from tests.support.exploring import EXPLORING

# How long an example takes is no property of what is tested. The same examples every time, so that a failure is one of
# the change at hand; NORTHGATE_EXPLORE=1 looks for new ones.
settings.register_profile("steady", deadline=None, derandomize=True)
settings.register_profile("exploring", deadline=None)
settings.load_profile("exploring" if EXPLORING else "steady")

# Whose tests are watched for coverage; of these the slow ones are marked `no_cover`, since watching doubles their time.
WATCHED = tuple(Path(__file__).parent / room for room in ("plan", "engine"))


@pytest.hookimpl(tryfirst=True)
def pytest_collection_modifyitems(items):
    """Branch coverage is that of the quick tests of plan and engine: the others would pass every line by the way."""
    for item in items:
        if not any(item.path.is_relative_to(room) for room in WATCHED):
            item.add_marker(pytest.mark.no_cover)


@pytest.hookimpl
def pytest_collection_finish():
    """What was loaded for the tests stays: to look it through for garbage again and again took a tenth of the time."""
    gc.freeze()
    gc.set_threshold(MORE_OBJECTS)
