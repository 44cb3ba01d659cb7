"""What follows from something is worked out once, when it is first asked for."""

import pickle

import pytest
from msgspec import Struct, field
from msgspec.structs import replace

from northgate.engine.base import Derives, cached


class Square(Struct, Derives, frozen=True, dict=True):
    """A square; `asked` counts how often something was worked out of it."""

    side: float
    asked: list[str] = field(default_factory=list)

    @cached
    def area(self) -> float:
        """Its area."""
        self.asked.append("area")
        return self.side**2


def around(one):
    one.asked.append("around")
    return 4 * one.side


def test_it_is_worked_out_once_and_only_if_asked_for():
    one = Square(3.0)
    assert one.asked == []
    assert [one.area, one.area] == [9.0, 9.0]
    assert [one.derived(around), one.derived(around)] == [12.0, 12.0]
    assert one.asked == ["area", "around"]


def test_each_has_its_own():
    one = Square(3.0)
    assert one.area == 9.0
    other = replace(one, side=5.0)
    assert other.area == 25.0
    assert one.area == 9.0


def test_what_says_nothing_is_asked_again():
    class Moody(Struct, dict=True):
        failed: bool = False

        @cached
        def answer(self):
            if not self.failed:
                self.failed = True
                raise ValueError("not now")
            return 42

    moody = Moody()
    with pytest.raises(ValueError, match="not now"):
        _ = moody.answer
    assert moody.answer == 42


def test_it_can_be_read_about_on_its_class():
    assert Square.area.__doc__ == "Its area."


def test_another_process_works_out_itself_what_was_made_of_it():
    one = Square(3.0)
    one.derived(around)
    came = pickle.loads(pickle.dumps(one))
    assert came == one
    assert came.derived(around) == 12.0
    assert came.asked == ["around", "around"]
