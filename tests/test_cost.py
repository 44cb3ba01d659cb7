"""What a plan costs, against sums that can be written down."""

import json

import pytest

from northgate.cost import GIGABYTES, cost
from northgate.plan import plan_from_data
from tests.cli.test_cli import northgate, write
from tests.support.plans import changed, plan_data

RPS, MONTH = 600, 730
PRICES = {"balancer_hour": 0.5, "front_hour": 0.1, "instance_hour": 0.2, "gigabyte": 0.05, "cross_zone_gigabyte": 0.02,
          "name_month": 3}  # fmt: skip


def priced(kilobytes=100, **prices):
    data = plan_data(platform={"prices": {**PRICES, **prices}})
    data["clients"][0]["calls"][0]["kilobytes"] = kilobytes
    return data


def by_part(data):
    answer = cost(plan_from_data(data))
    return answer, {(one.about, one.kind): one for one in answer.parts}


def test_every_part_is_its_amount_times_its_price():
    """600 answers of 100 kB a second are 480 Mbit/s; of every front's a third stays in its zone."""
    answer, parts = by_part(priced())
    gigabytes = RPS * 100e3 * MONTH * 3600 / 1e9
    assert parts["front", "balancer"].month == pytest.approx(0.5 * MONTH)
    assert parts["front", "front"].month == pytest.approx(0.1 * 3 * MONTH)
    assert parts["tiles", "fleet"].month == pytest.approx(0.2 * 6 * MONTH)
    assert parts["front", "traffic"].amount == pytest.approx(gigabytes)
    assert parts["front", "traffic across zones"].amount == pytest.approx(gigabytes * 2 / 3)
    assert parts["www.beckwater.example", "name"].month == 3
    assert answer.month == pytest.approx(sum(one.month for one in answer.parts))
    assert answer.hour == pytest.approx(answer.month / MONTH)
    assert answer.idle_month == pytest.approx(answer.month - gigabytes * (0.05 + 0.02 * 2 / 3))
    assert answer.missing == []
    assert pytest.approx(480 * GIGABYTES) == gigabytes


def test_a_price_that_is_not_given_is_said_where_it_is_needed():
    answer, _ = by_part(priced(kilobytes=0, gigabyte=0, instance_hour=0))
    assert answer.missing == ["instance_hour"]


def test_an_autoscaled_fleet_costs_what_it_counts_over_a_day():
    """600 / s on machines of 100 at 60 %: 10 of them; for half of the day a tenth of that: the least, 2."""
    data = changed(priced(), "/fleets/0/instance/capacity_rps", 100)
    data["fleets"][0] |= {"count": 10, "scale": {"min": 2, "max": 20, "target_utilisation": 0.6}}
    data["clients"][0]["profile"] = [[0, 1], [43_200, 0.1]]
    _, parts = by_part(data)
    assert parts["tiles", "fleet"].amount == pytest.approx((10 + 2) / 2 * MONTH)
    assert parts["tiles", "fleet"].idle == pytest.approx(0.2 * 2 * MONTH)


def test_the_command_has_the_contracted_keys(tmp_path):
    path = write(tmp_path, priced())
    document = json.loads(northgate("cost", path, "--json").stdout)
    assert {"hour", "month", "idle_month", "parts", "missing"} <= set(document)
    assert {"about", "kind", "month", "price", "amount"} <= set(document["parts"][0])
    assert "a month" in northgate("cost", path).stdout
