"""How the application is served."""

import socket

import pytest

from northgate.web.server import LOOPBACK, _listen


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
