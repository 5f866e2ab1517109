"""The table of commands: what is no finite number within its bounds never reaches a drive."""

import json
import math
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from cadrel.bench import DriveService
from cadrel.core.simulation import SimulatedDrive
from cadrel.link.commands import COMMANDS, DEEPEST, MOST_SMALL, BadParams, checked
from cadrel.link.wire import LONGEST_REQUEST, decode_response
from tests.conftest import rig_of

NAMES = sorted(
    {name for command in COMMANDS.values() for name in command.params} | {"axis", "lease", "consent", "watch"}
)
WILD = st.recursive(
    st.none() | st.booleans() | st.integers() | st.floats() | st.text(max_size=20),
    lambda inner: st.lists(inner, max_size=4) | st.dictionaries(st.text(max_size=8), inner, max_size=4),
    max_leaves=12,
)


@pytest.fixture(scope="module")
def service() -> DriveService:
    return DriveService({"axis": SimulatedDrive("axis", rig_of("tile-pusher"))})


def ask(service: DriveService, method: str, params: Any) -> Any:
    line = json.dumps({"jsonrpc": "2.0", "id": 1, "method": method, "params": params}).encode()
    return decode_response(service.answer(line + b"\n"))


@given(method=st.sampled_from(sorted(COMMANDS)), params=st.dictionaries(st.sampled_from(NAMES), WILD, max_size=6))
def test_whatever_is_sent_is_answered_and_the_drive_stays_sound(
    service: DriveService, method: str, params: dict[str, Any]
) -> None:
    drive = service.drives["axis"]
    if method == "bench.power":
        return  # a drive without supply answers nothing else: its own test
    line = json.dumps({"jsonrpc": "2.0", "id": 7, "method": method, "params": {"axis": "axis"} | params}).encode()
    answer = service.answer(line)
    assert json.loads(answer)["id"] in (7, None)
    assert b"-32603" not in answer  # no internal error: the table or the drive has said what is wrong
    status = drive.status()
    assert all(math.isfinite(status[k]) for k in ("position", "velocity", "current", "v_bus", "vector_angle", "time"))


@given(value=st.sampled_from([math.nan, math.inf, -math.inf, 1e308, -1e308, "1", "nan", True, None, [1.0], {}]))
def test_no_speed_position_or_angle_is_taken_that_is_not_a_number_within_bounds(value: Any) -> None:
    for method, name, rest in (
        ("motion.jog", "velocity", {}),
        ("motion.set_position", "value", {}),
        ("motion.adopt_angle", "angle", {}),
        ("motion.vector", "angle", {"rate": 1.0, "current": 1.0, "rise": 1.0}),
        ("motion.run", "velocity", {}),
    ):
        with pytest.raises(BadParams, match=name):
            checked(method, {name: value, **rest})


def test_a_number_too_large_for_a_float_is_refused_as_a_number() -> None:
    with pytest.raises(BadParams, match="velocity is not within"):
        checked("motion.jog", {"velocity": 10**400})


def test_what_is_missing_or_unknown_is_named() -> None:
    with pytest.raises(BadParams, match="needs velocity"):
        checked("motion.jog", {})
    with pytest.raises(BadParams, match="takes no speed"):
        checked("motion.jog", {"velocity": 1.0, "speed": 2.0})


def test_only_paths_and_excitations_may_be_long_and_nothing_may_be_deep() -> None:
    with pytest.raises(BadParams, match="at most 1000000 bytes"):
        checked("drive.status", {}, length=MOST_SMALL + 1)
    deep: Any = 1.0
    for _ in range(DEEPEST + 1):
        deep = [deep]
    with pytest.raises(BadParams, match="levels deep"):
        checked("parameters.write", {"values": {"position.gain": deep}})


def test_an_unknown_command_and_an_unknown_axis_are_answers(service: DriveService) -> None:
    assert ask(service, "drive.explode", {}).error["code"] == -32601
    refused = ask(service, "drive.status", {"axis": "no such"}).error
    assert refused["code"] == -32000
    assert "has no axis" in refused["data"]["parts"][0]
    assert ask(service, "drive.status", {"axis": []}).error["code"] == -32602


def test_every_command_of_the_table_has_a_handler_and_a_line_in_the_document() -> None:
    from pathlib import Path

    from cadrel.bench.service import HANDLERS

    own = {"link.hello", "bench.axes", "parameters.store"}  # answered by the service itself
    assert set(COMMANDS) == set(HANDLERS) | own
    text = (Path(__file__).resolve().parents[2] / "docs" / "link-protocol.md").read_text()
    assert [name for name in COMMANDS if f"`{name}`" not in text] == []


def test_a_request_longer_than_any_is_answered_and_the_line_ended() -> None:
    import socket
    import threading

    from cadrel.bench.server import BenchServer

    server = BenchServer(DriveService({"axis": SimulatedDrive("axis", rig_of("tile-pusher"))}), 0)
    thread = threading.Thread(target=server.run)
    thread.start()
    try:
        with socket.create_connection(server.server_address, timeout=10) as line:
            line.sendall(b'{"x": "' + b"a" * (LONGEST_REQUEST + 10))
            assert b"a request has at most" in line.makefile("rb").readline()
    finally:
        server.shutdown()
        thread.join(timeout=5)


def test_without_the_shared_secret_a_drive_says_nothing() -> None:
    import socket
    import threading

    from cadrel.bench.server import BenchServer
    from cadrel.link import LinkedDrive, LinkError, TcpLink

    made = DriveService({"axis": SimulatedDrive("axis", rig_of("tile-pusher"))}, secret="between us")
    server = BenchServer(made, 0)
    thread = threading.Thread(target=server.run)
    thread.start()
    port = server.server_address[1]
    try:
        for secret, answers in (("between us", True), ("", False), ("a guess", False)):
            link = TcpLink("127.0.0.1", port, secret=secret)
            try:
                if answers:
                    assert LinkedDrive(link, "axis").identity()["name"] == "axis"
                else:
                    with pytest.raises(LinkError, match="secret"):
                        LinkedDrive(link, "axis").status()
            finally:
                link.close()
        with socket.create_connection(("127.0.0.1", port), timeout=5) as line:
            line.sendall(b'{"jsonrpc":"2.0","id":1,"method":"drive.stop","params":{"axis":"axis"}}\n')
            assert b"-32001" in line.makefile("rb").readline()
    finally:
        server.shutdown()
        thread.join(timeout=5)
