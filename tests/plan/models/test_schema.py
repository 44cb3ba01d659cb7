"""The published JSON Schema says what the reader says."""

import jsonschema
import pytest

from northgate.plan import PlanError, plan_from_data, read_plan
from northgate.plan.models.schema import plan_schema
from northgate.plan.writing import plain_data
from tests.plan.test_reading import EXAMPLE
from tests.support.plans import changed, plan_data

VALIDATOR = jsonschema.Draft202012Validator(plan_schema())


def test_the_schema_is_a_schema_and_takes_the_example():
    jsonschema.Draft202012Validator.check_schema(plan_schema())
    VALIDATOR.validate(plain_data(read_plan(EXAMPLE)))


@pytest.mark.parametrize(
    ("place", "value"),
    [
        ("/probes/0/intervall_s", 1),
        ("/probes/0/interval_s", 0),
        ("/name", "Small"),
        ("/target_groups/0/balance", "random"),
        ("/target_groups/0/targets/0", {"fleet": "tiles", "instance": "a"}),
        ("/balancers/0/listeners/0/otherwise", {}),
        ("/clients/0/calls", []),
    ],
)
def test_what_the_reader_refuses_the_schema_refuses(place, value):
    data = changed(plan_data(), place, value)
    assert not VALIDATOR.is_valid(data)
    with pytest.raises(PlanError):
        plan_from_data(data)
