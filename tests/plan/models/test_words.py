"""Fields are named once: the schema, its forms and the differences say the same words."""

import pytest

from northgate.plan.models.schema import plan_schema
from northgate.plan.models.words import hints, label, said, unit


@pytest.mark.parametrize(
    ("field", "labelled", "spoken", "counted"),
    [
        ("interval_s", "Every", "every", "s"),
        ("timeout_s", "Give up after", "gives up after", "s"),
        ("url", "URL", "URL", ""),
        ("front_failover_s", "Dead front leaves after", "dead front leaves after", "s"),
        ("try_others", "Try others", "try others", ""),
        ("bandwidth_mbps", "Bandwidth", "bandwidth", "Mbit/s"),
        ("service_ms", "Service time", "service time", "ms"),
        ("capacity_rps", "Capacity", "capacity", "/s"),
    ],
)
def test_a_field_is_called(field, labelled, spoken, counted):
    assert (label(field), said(field), unit(field)) == (labelled, spoken, counted)


def test_the_schema_names_every_field_of_every_thing():
    schema = plan_schema()
    things = [schema, *schema["$defs"].values()]
    fields = [(name, field) for thing in things for name, field in thing.get("properties", {}).items()]
    assert len(fields) > 100
    assert all(field["x-label"] == label(name) and field.get("x-unit", "") == unit(name) for name, field in fields)


def test_a_sample_stands_beside_the_fields_that_need_one():
    assert hints("cidr")["x-sample"] == "198.18.0.0/24"
    assert "x-sample" not in hints("balance")
