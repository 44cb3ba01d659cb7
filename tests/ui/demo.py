"""The demo as JSON, which is read much faster than its YAML: most tests make a plan of their own of it."""

from northgate.plan import read_plan
from tests.plan.test_reading import EXAMPLE

DEMO = read_plan(EXAMPLE).model_dump_json(by_alias=True)
