"""How the application is served."""

import signal
import socket
import subprocess
import sys
import time

import pytest

from northgate.web.server import LOOPBACK, _listen
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
