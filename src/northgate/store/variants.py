"""Variants of a plan: plans that began as a revision of it, beside which they stand.

family                    a plan and its variants
add_variant               another of them
"""

from sqlalchemy import or_, select

from northgate.store.head import Head
from northgate.store.repository import Repository, free_key
from northgate.store.tables import PlanRow, RevisionRow


def family(repository: Repository, key: str) -> list[Head]:
    """A plan, or that which it is a variant of, and after it all its variants, each at its current revision; raises
    UnknownPlan."""
    with repository.session() as session:
        plan = repository.plan_row(session, key)
        root = plan.origin or plan.id
        asked = select(PlanRow).where(or_(PlanRow.id == root, PlanRow.origin == root), ~PlanRow.deleted)
        rows = session.execute(asked.order_by(PlanRow.id)).scalars().all()
        return [repository.head_of(session, row, row.current) for row in rows]


def add_variant(repository: Repository, key: str, name: str = "") -> Head:
    """A variant that begins as a plan is now, which stays as it is; of a variant another of the same plan. By default
    variants are numbered."""
    with repository.writing() as session:
        plan = repository.plan_row(session, key)
        root = plan.origin or plan.id
        first = session.get_one(PlanRow, root).key
        now = repository.text_of(session, plan, plan.current)
        numbered = len(session.execute(select(PlanRow.id).where(PlanRow.origin == root)).all()) + 1
        row = PlanRow(
            key=free_key(session, f"{first}-variant"), current=1, agreed=None, origin=root,
            variant=name.strip() or f"variant {numbered}",
        )  # fmt: skip
        session.add(row)
        session.flush()
        session.add(RevisionRow(plan_id=row.id, number=1, document=now, source=None))
        session.flush()
        return repository.head_of(session, row, 1)
