"""Revisions kept as what differs: whatever is edited, every revision is read back as it was made."""

import random
import sqlite3

import pytest
from hypothesis import given
from hypothesis import strategies as st
from starlette.testclient import TestClient

from northgate.plan import PlanError
from northgate.store.care import check
from northgate.store.log import go_to, stand
from northgate.store.repository import Repository, UnknownPlan
from northgate.store.splices import MOST_SPLICES, put_together, splice, spliced
from northgate.store.variants import add_variant
from northgate.web.app import make_app
from tests.support.plans import base_plan

TEXTS = st.text(alphabet='ab{\u00e9\U0001f30a"\\\n', max_size=40)


@given(TEXTS, TEXTS)
def test_a_splice_makes_the_one_of_the_other(before, after):
    assert spliced(before, splice(before, after)) == after


def test_a_splice_holds_no_more_than_what_differs():
    before = "x" * 100_000
    assert len(splice(before, before[:500] + "y" + before[500:])) < 40
    assert spliced(before, splice(before, before)) == before


@pytest.mark.parametrize("wrong", ['[5, 0, ""]', '[-1, 0, ""]', '[2, 2, ""]', "[1]", "nonsense", '[null, 0, ""]'])
def test_a_damaged_splice_is_told(wrong):
    with pytest.raises((ValueError, TypeError)):
        spliced("abc", wrong)
    with pytest.raises(ValueError, match="not there"):
        put_together([(2, splice("a", "b")), (1, splice("b", "c"))])


def noted(plan, text):
    return plan.model_copy(update={"notes": text})


def test_every_revision_of_a_tree_is_read_back_as_it_was_made(tmp_path):
    """Edits, undos and new branches, more than a row of splices is long."""
    repository, chance = Repository(tmp_path / "plans.sqlite"), random.Random(3)
    made = {1: base_plan()}
    parents = {1: None}
    key, now = repository.add(made[1]).key, 1
    for number in range(2, 3 * MOST_SPLICES):
        if parents[now] is not None and chance.random() < 0.1:
            now = repository.undo(key, now).revision
        text = "".join(chance.choice("ab cd\n") for _ in range(chance.choice([0, 3, 30, 3000])))
        made[number] = noted(made[now], text)
        parents[number], now = now, repository.edit(key, now, made[number]).revision
        assert now == number
    assert all(repository.plan(key, number) == plan for number, plan in made.items())
    depths = {1: 0}
    for number in range(2, len(made) + 1):
        depths[number] = depths[parents[number]] + 1
    assert {number: repository.head(key, number).edits for number in made} == depths
    repository.close()
    with sqlite3.connect(tmp_path / "plans.sqlite") as store:
        kinds = {kind for (kind,) in store.execute("SELECT DISTINCT splices > 0 FROM revision")}
    store.close()
    assert kinds == {0, 1}
    assert check(tmp_path / "plans.sqlite").problems == ()


def test_edits_since_the_agreed_revision_are_counted_along_the_way(tmp_path):
    repository = Repository(tmp_path / "plans.sqlite")
    key = repository.add(base_plan()).key
    for number in (1, 2):
        repository.edit(key, number, noted(base_plan(), str(number)))
    stand(repository, key, 3)
    assert repository.edit(key, 3, noted(base_plan(), "x")).edits == 1
    # On another branch the agreed one is no ancestor.
    go_to(repository, key, 4, 2)
    assert repository.edit(key, 2, noted(base_plan(), "y")).edits == 2
    assert repository.head(key, 3).edits == 0
    assert (repository.head(key, 2).can_redo, repository.head(key, 5).can_redo) == (True, False)
    repository.close()


def test_a_variant_of_a_splice_is_whole(tmp_path):
    repository = Repository(tmp_path / "plans.sqlite")
    key = repository.add(base_plan()).key
    repository.edit(key, 1, noted(base_plan(), "later"))
    variant = add_variant(repository, key)
    assert repository.plan(variant.key, 1) == noted(base_plan(), "later")
    repository.close()


def test_a_long_history_takes_little_room(tmp_path):
    """Two hundred small edits of a plan of some size: far less than so many copies of it."""
    repository = Repository(tmp_path / "plans.sqlite")
    plan = noted(base_plan(), " ".join(map(str, range(4000))))
    key = repository.add(plan).key
    for number in range(1, 200):
        repository.edit(key, number, plan.model_copy(update={"title": f"edit {number}"}))
    repository.close()
    with sqlite3.connect(tmp_path / "plans.sqlite") as store:
        kept = store.execute("SELECT sum(length(document)) FROM revision").fetchone()[0]
        whole = store.execute("SELECT length(document) FROM revision WHERE number = 1").fetchone()[0]
        wholes = [
            number for (number,) in store.execute("SELECT number FROM revision WHERE splices = 0 ORDER BY number")
        ]
    store.close()
    assert wholes == list(range(1, 201, MOST_SPLICES + 1))
    assert kept < 200 * whole / 20


def test_a_plan_whose_current_revision_is_gone_is_listed_beside_the_others(tmp_path):
    path = tmp_path / "plans.sqlite"
    repository = Repository(path)
    keys = [repository.add(base_plan()).key for _ in range(2)]
    repository.close()
    with sqlite3.connect(path) as store:
        store.execute("DELETE FROM revision WHERE plan_id = 1")
    store.close()
    repository = Repository(path)
    with TestClient(make_app(repository), base_url="http://127.0.0.1") as client:
        first, second = client.get("/api/plans").json()
    assert [first["key"], second["key"]] == keys
    assert "there is no plan" in first["unreadable"]
    assert second["unreadable"] is None
    repository.close()


def test_a_revision_whose_beginning_is_gone_is_told(tmp_path):
    path = tmp_path / "plans.sqlite"
    repository = Repository(path)
    key = repository.add(base_plan()).key
    repository.edit(key, 1, noted(base_plan(), "later"))
    repository.close()
    with sqlite3.connect(path) as store:
        store.execute("DELETE FROM revision WHERE number = 1")
    store.close()
    repository = Repository(path)
    with pytest.raises(PlanError, match="cannot be put together: what it was made of is not there"):
        repository.plan(key, 2)
    with pytest.raises(UnknownPlan, match="revision 1"):
        repository.plan(key, 1)
    repository.close()
    told = f"plan {key}: its current revision 2 cannot be read: what it was made of is not there"
    assert check(path).problems == (told,)
