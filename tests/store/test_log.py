"""The log of a plan, and its variants, on disk."""

import pytest

from northgate.store.log import give_reason, go_to, history, stand
from northgate.store.repository import Repository, StaleRevision, UnknownPlan
from northgate.store.variants import add_variant, family
from tests.store.test_repository import retitled
from tests.support.plans import base_plan


@pytest.fixture
def repository(tmp_path):
    made = Repository(tmp_path / "plans.sqlite")
    made.add(base_plan(), "the text")
    yield made
    made.close()


def lines(repository):
    return [(one.revision, one.parent, one.on_the_way) for one in history(repository, "small")]


def test_the_log_is_the_tree_of_revisions_with_the_way_to_the_current_one(repository):
    repository.edit("small", 1, retitled("a"))
    repository.undo("small", 2)
    repository.edit("small", 1, retitled("b"))
    assert lines(repository) == [(3, 1, True), (2, 1, False), (1, None, True)]
    assert [one.from_file for one in history(repository, "small")] == [False, False, True]
    assert go_to(repository, "small", 3, 2).revision == 2
    assert lines(repository) == [(3, 1, False), (2, 1, True), (1, None, True)]
    with pytest.raises(StaleRevision):
        go_to(repository, "small", 3, 1)
    with pytest.raises(UnknownPlan, match="revision 9"):
        go_to(repository, "small", 2, 9)


def test_reasons_and_who_stands_by_a_revision_are_kept(repository, tmp_path):
    repository.edit("small", 1, retitled("a"))
    give_reason(repository, "small", 2, "the spring flood")
    assert stand(repository, "small", 2, "Ada", "looked at", agreed=False).agreed is None
    assert stand(repository, "small", 2, "Bea", "goes live on Monday").agreed == 2
    with pytest.raises(StaleRevision):
        stand(repository, "small", 1, "Cid")
    again = Repository(tmp_path / "plans.sqlite")
    newest = history(again, "small")[0]
    again.close()
    assert newest.reason == "the spring flood"
    said = [(one.agreed, one.who, one.why) for one in newest.standings]
    assert said == [(False, "Ada", "looked at"), (True, "Bea", "goes live on Monday")]


def test_a_variant_begins_as_the_plan_is_and_leaves_it_as_it_is(repository):
    repository.edit("small", 1, retitled("a"))
    first = add_variant(repository, "small", "faster probes")
    assert (first.key, first.variant, first.revision) == ("small-variant", "faster probes", 1)
    repository.edit(first.key, 1, retitled("b"))
    assert repository.plan("small", 2).title == "a"
    # Of a variant: another of the same plan.
    second = add_variant(repository, first.key)
    assert (second.variant, repository.plan(second.key, 1).title) == ("variant 2", "b")
    for key in ("small", first.key, second.key):
        assert [one.key for one in family(repository, key)] == ["small", "small-variant", "small-variant-2"]
    repository.set_deleted(first.key, deleted=True)
    assert [one.variant for one in family(repository, "small")] == [None, "variant 2"]
