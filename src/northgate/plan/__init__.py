"""The plan document: its models, how it is read and written, and who refers to whom. Knows nobody else."""

from northgate.plan.models.document import Plan
from northgate.plan.problems import PlanError, Problem
from northgate.plan.reading import plan_from_data, plan_from_text, read_plan

__all__ = ["Plan", "PlanError", "Problem", "plan_from_data", "plan_from_text", "read_plan"]
