"""The wire: both ends in memory, broken input, and over TCP."""

import contextlib
import json
import socket
import threading
import time
from collections.abc import Iterator

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from cadrel.bench.server import LATE, SLICE, BenchServer
from cadrel.bench.service import DriveService
from cadrel.core.simulation import SimulatedDrive
from cadrel.link import LinkBroken, LinkDown, LinkedDrive, LocalLink, RefusedByDrive, TcpLink
from cadrel.link.wire import (
    Request,
    Response,
    WireError,
    decode_request,
    decode_response,
    encode_request,
    encode_response,
    pack,
    unpack,
)
from tests.conftest import rig_of

JSON = st.recursive(
    st.none()
    | st.booleans()
    | st.integers(-(2**53), 2**53)
    | st.floats(allow_nan=False, allow_infinity=False)
    | st.text(),
    lambda c: st.lists(c, max_size=3) | st.dictionaries(st.text(), c, max_size=3),
    max_leaves=8,
)


@given(st.integers(0, 2**31), st.text(min_size=1), st.dictionaries(st.text(), JSON, max_size=4))
def test_requests_survive_the_wire(number: int, method: str, params: dict[str, object]) -> None:
    line = encode_request(Request(number, method, params))
    assert line.count(b"\n") == 1
    assert decode_request(line) == Request(number, method, params)


@given(st.integers(0, 2**31), JSON)
def test_responses_survive_the_wire(number: int, result: object) -> None:
    assert decode_response(encode_response(Response(number, result))) == Response(number, result)


@given(st.binary(max_size=200))
def test_any_bytes_are_a_message_or_a_wire_error(line: bytes) -> None:
    for decode in (decode_request, decode_response):
        try:
            decode(line)
        except WireError:
            continue


@pytest.mark.parametrize(
    "line",
    [
        b"",
        b"[]\n",
        b'{"jsonrpc":"1.0","id":1}\n',
        b'{"jsonrpc":"2.0","id":1}\n',
        b'{"jsonrpc":"2.0","id":1,"result":NaN}\n',
        b"[" * 100_000,
        b'{"jsonrpc":"2.0","id":1,"result":1,"error":{"code":1,"message":""}}\n',
    ],
)
def test_broken_responses_are_named_as_such(line: bytes) -> None:
    with pytest.raises(WireError):
        decode_response(line)


def test_arrays_travel_as_little_endian_floats() -> None:
    body = pack(np.array([[1.0, 2.5], [3.0, -4.0]]))
    assert body["shape"] == [2, 2]
    np.testing.assert_array_equal(unpack(json.loads(json.dumps(body))), [[1.0, 2.5], [3.0, -4.0]])
    for broken in (
        {},
        {"shape": [3], "f32": body["f32"]},
        {"shape": [1], "f64": "!!"},
        {"shape": [1], "f32": "AADAfw=="},
    ):
        with pytest.raises(WireError):
            unpack(broken)


@pytest.fixture
def service() -> DriveService:
    return DriveService({"axis": SimulatedDrive("axis", rig_of("tile-pusher"))})


@pytest.mark.parametrize(
    ("sent", "code"),
    [
        (b"rubbish\n", -32600),
        (b'{"jsonrpc":"2.0","id":4,"method":"no.such","params":{"axis":"axis"}}\n', -32601),
        (b'{"jsonrpc":"2.0","id":4,"method":"control.take","params":{"axis":"axis"}}\n', -32602),
        (b'{"jsonrpc":"2.0","id":4,"method":"drive.status","params":{"axis":"none"}}\n', -32000),
        (b'{"jsonrpc":"2.0","id":4,"method":"motion.jog","params":{"axis":"axis","velocity":1}}\n', -32000),
    ],
)
def test_the_bench_answers_every_line_with_the_codes_of_json_rpc(service: DriveService, sent: bytes, code: int) -> None:
    # Codes of the JSON-RPC 2.0 specification; -32000 is the first of those left to the application.
    answer = json.loads(service.answer(sent))
    assert answer["error"]["code"] == code


def test_refusals_cross_with_what_happened_what_it_means_and_what_to_do(service: DriveService) -> None:
    drive = LinkedDrive(LocalLink(service.answer, service.advance), "axis")
    with pytest.raises(RefusedByDrive) as caught:
        drive.jog(1.0)
    happened, means, remedy = caught.value.parts
    assert "without control" in happened
    assert means == "Nothing was started."
    assert remedy == "Take control first."


@pytest.fixture
def server(service: DriveService) -> Iterator[BenchServer]:
    made = BenchServer(service, 0)
    thread = threading.Thread(target=made.run)
    thread.start()
    yield made
    made.shutdown()
    thread.join(timeout=5)


def test_over_tcp_the_drive_says_the_same_as_in_memory(server: BenchServer, service: DriveService) -> None:
    near = LinkedDrive(LocalLink(service.answer, service.advance), "axis")
    with contextlib.closing(TcpLink("127.0.0.1", server.server_address[1])) as link:
        far = LinkedDrive(link, "axis")
        assert far.identity() == near.identity()
        assert far.read() == near.read()


def test_drive_time_goes_on_by_itself_and_never_faster_than_the_clock(server: BenchServer) -> None:
    with contextlib.closing(TcpLink("127.0.0.1", server.server_address[1])) as link:
        far = LinkedDrive(link, "axis")
        begun, before = time.monotonic(), far.status()["time"]
        link.wait(0.2)
        waited = time.monotonic() - begun
        while far.status()["time"] - before < 0.2:  # what a busy machine leaves out, drive time waits for
            assert time.monotonic() - begun < 60
            link.wait(0.01)
        gone, since = far.status()["time"] - before, time.monotonic() - begun
        assert waited >= 0.2
        assert gone <= since + SLICE + LATE


def test_nobody_there_is_link_down() -> None:
    with pytest.raises(LinkDown):
        LinkedDrive(TcpLink("127.0.0.1", 1, timeout=0.3), "axis").status()


@pytest.mark.parametrize(
    "answer", [b"rubbish\n", b'{"jsonrpc":"2.0","id":99,"result":1}\n', b'{"jsonrpc":"2.0","id":1}\n']
)
def test_rubbish_is_link_broken_and_the_next_call_starts_anew(answer: bytes) -> None:
    listener = socket.create_server(("127.0.0.1", 0))

    def answer_once() -> None:
        for _ in range(2):
            with listener.accept()[0] as connection:
                connection.recv(4096)
                connection.sendall(answer)

    thread = threading.Thread(target=answer_once)
    thread.start()
    link = TcpLink("127.0.0.1", listener.getsockname()[1], timeout=1)
    for _ in range(2):
        with pytest.raises(LinkBroken):
            link.call("drive.status", {})
    thread.join(timeout=3)
    listener.close()


def test_hanging_up_is_link_down() -> None:
    listener = socket.create_server(("127.0.0.1", 0))
    thread = threading.Thread(target=lambda: listener.accept()[0].close())  # noqa: PLW0108 - accept must wait for the thread
    thread.start()
    with pytest.raises(LinkDown):
        TcpLink("127.0.0.1", listener.getsockname()[1], timeout=1).call("drive.status", {})
    thread.join(timeout=3)
    listener.close()
