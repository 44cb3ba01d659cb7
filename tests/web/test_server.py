"""How the application is served."""

import signal
import socket
import subprocess
import sys
import threading
import time
from contextlib import suppress

import httpx2
import pytest

from northgate.store.repository import Repository
from northgate.store.states import StoreError
from northgate.web.server import LOOPBACK, Serving, _listen
from tests.support.waits import WAIT_S


def test_the_socket_names_its_protocol_so_that_small_answers_are_sent_at_once():
    with _listen(0) as listening, socket.create_connection(listening.getsockname()) as client:
        accepted, _ = listening.accept()
        with accepted:
            assert accepted.proto == socket.IPPROTO_TCP
            assert client.getpeername()[0] == LOOPBACK


def test_a_taken_port_is_told_with_what_would_work(capsys):
    with _listen(0) as listening, pytest.raises(SystemExit) as stopped:
        _listen(listening.getsockname()[1])
    assert stopped.value.code == 2
    assert "--port 0" in capsys.readouterr().err


@pytest.mark.parametrize("after_s", [0, 0.1, 0.5])
def test_it_can_be_stopped_from_the_moment_it_tells_where_it_is(tmp_path, after_s):
    """What it still loads then is given up without a word."""
    command = [sys.executable, "-m", "northgate", "serve", "--port", "0", "--no-browser", "--data", str(tmp_path)]
    with subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True) as server:
        assert server.stdout.readline().startswith("North Gate is at http://127.0.0.1:")
        time.sleep(after_s)
        server.send_signal(signal.SIGINT)
        # As the shell has it: where it does not let interrupts through, there is nothing to end by.
        assert server.wait(WAIT_S) in (0, 128 + signal.SIGINT)
        assert server.stderr.read() == ""


def test_a_store_that_needs_a_word_is_opened_before_the_address_is_told(tmp_path):
    file = tmp_path / "northgate.sqlite"
    file.write_text("no store, whatever it is called")
    command = [sys.executable, "-m", "northgate", "serve", "--port", "0", "--no-browser", "--data", str(tmp_path)]
    gone = subprocess.run(command, check=False, capture_output=True, text=True)
    assert (gone.returncode, gone.stdout) == (2, "")
    assert gone.stderr.startswith(f"{file} cannot be used: ")
    assert file.read_text() == "no store, whatever it is called"


def test_a_store_that_fails_once_the_address_is_told_ends_the_server(tmp_path, monkeypatch):
    def fails(_):
        raise StoreError("the disk is gone")

    monkeypatch.setattr(Repository, "list", fails)
    given_up, serving = threading.Event(), Serving(tmp_path / "plans.sqlite", with_demo=True)
    serving.open(given_up.set)
    assert given_up.wait(WAIT_S)
    for stage in serving.stages[1:]:
        assert str(stage.exception(WAIT_S)) == "the disk is gone"
    with pytest.raises(StoreError, match="the disk is gone"):
        serving.close()


def test_who_stops_it_while_it_answers_sees_no_errors(tmp_path):
    command = [sys.executable, "-m", "northgate", "demo", "--port", "0", "--no-browser", "--data", str(tmp_path)]
    with subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True) as server:
        address = server.stdout.readline().split()[4]
        asked = threading.Thread(target=_ask, args=(f"{address}api/plans/beckwater/drills/lose-fells",), daemon=True)
        asked.start()
        time.sleep(1)
        server.send_signal(signal.SIGINT)
        assert server.wait(WAIT_S) in (0, 128 + signal.SIGINT)
        assert server.stderr.read() == ""
        asked.join(WAIT_S)


def _ask(address):
    with suppress(httpx2.HTTPError):
        httpx2.get(address, timeout=WAIT_S)
