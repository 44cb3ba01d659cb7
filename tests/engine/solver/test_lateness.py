"""Who is too late is held where nothing would settle, and looked at again once all else has."""

import numpy as np

from northgate.engine.solver.passes.waits import Lateness

ONE, OTHER = np.array([True, False]), np.array([False, True])


def held(first):
    """Lateness that holds what was found at first."""
    lateness = Lateness()
    lateness.say("at the pairs", first)
    lateness.hold()
    return lateness


def test_what_is_found_goes_while_nothing_is_held():
    lateness = Lateness()
    assert lateness.say("at the pairs", ONE) is ONE
    assert lateness.say("at the pairs", OTHER) is OTHER


def test_what_is_held_goes_until_all_else_has_settled():
    lateness = held(ONE)
    assert lateness.say("at the pairs", OTHER) is ONE
    assert lateness.goes_on(), "something else is found than was said"
    assert lateness.say("at the pairs", OTHER) is OTHER
    assert not lateness.goes_on(), "what is said is what is found"


def test_what_goes_to_and_fro_ends_where_it_has_been():
    lateness = held(ONE)
    lateness.say("at the pairs", OTHER)
    assert lateness.goes_on()
    lateness.say("at the pairs", ONE)
    assert not lateness.goes_on()


def test_what_is_asked_of_other_pairs_meanwhile_is_found_anew():
    lateness = held(ONE)
    more = np.array([True, True, True])
    assert lateness.say("at the pairs", more) is more
    assert lateness.say("behind others", OTHER) is OTHER
