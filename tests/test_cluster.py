"""The same work on a Dask cluster of two workers, one of which is killed on the way."""

import os
import signal
from pathlib import Path

import pytest
from distributed import LocalCluster

from northgate import work
from northgate.engine.drill import Losing
from northgate.engine.reports.losses import alike, loss_row
from northgate.losses import losing_of
from northgate.plan import plan_from_data
from tests.support.plans import network_of, plan_data

pytestmark = pytest.mark.filterwarnings("ignore")


def killed_once(given, item):
    """The first who comes to the fifth item is killed."""
    mark, lost = item
    path = Path(mark)
    if lost[0].words[0] == "zone fells-3" and not path.exists():
        path.touch()
        os.kill(os.getpid(), signal.SIGKILL)
    return loss_row(given[1], lost)


def test_a_cluster_does_the_same_work_though_a_worker_is_killed(tmp_path, monkeypatch):
    data = plan_data()
    items = [(str(tmp_path / "been-here"), [one]) for one in alike(network_of(data))]
    plan = plan_from_data(data)
    losing = Losing(network_of(data))
    here = [loss_row(losing, lost) for _, lost in items]
    with LocalCluster(
        n_workers=2,
        threads_per_worker=1,
        processes=True,
        dashboard_address=None,
        silence_logs=60,
        local_directory=tmp_path,
    ) as cluster:
        monkeypatch.setenv(work.SCHEDULER, cluster.scheduler_address)
        made = work.spread(killed_once, losing_of, plan, items)
    assert (tmp_path / "been-here").exists()
    assert made == here
