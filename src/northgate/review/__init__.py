"""What is wrong with a plan: findings, each by one small rule."""

from northgate.review.answer import FindingAnswer, ReviewAnswer, review
from northgate.review.registry import RULES, SEVERITIES, Rule

__all__ = ["RULES", "SEVERITIES", "FindingAnswer", "ReviewAnswer", "Rule", "review"]
