"""What holds for all tests."""

import gc

# The package first: it says how many threads linear algebra may have, before anything loads NumPy.
import northgate  # noqa: F401  isort: skip
import pytest
from hypothesis import settings

from northgate.loading import MORE_OBJECTS
from tests.support import watched
from tests.support.exploring import EXPLORING

# How long an example takes is no property of what is tested. The same examples every time, so that a failure is one of
# the change at hand; NORTHGATE_EXPLORE=1 looks for new ones.
settings.register_profile("steady", deadline=None, derandomize=True)
settings.register_profile("exploring", deadline=None)
settings.load_profile("exploring" if EXPLORING else "steady")

WATCHED = watched.names()


@pytest.hookimpl(tryfirst=True)
def pytest_collection(session):
    """From when all that is measured is loaded, nothing is watched for coverage but tests that are to be."""
    measuring = watched.measuring(session.config)
    if measuring:
        watched.load()
        watched.stop_all()


@pytest.hookimpl(wrapper=True)
def pytest_runtest_protocol(item):
    """Watches a test of those that are watched."""
    measuring = watched.measuring(item.config) if watched.ALL or item.nodeid in WATCHED else None
    if measuring:
        measuring.resume()
    done = yield
    if measuring:
        measuring.pause()
    return done


@pytest.hookimpl
def pytest_collection_finish():
    """What was loaded for the tests stays: to look it through for garbage again and again took a tenth of the time."""
    gc.freeze()
    gc.set_threshold(MORE_OBJECTS)
