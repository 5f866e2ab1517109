"""How the suite is run."""

from pathlib import Path

import pytest

from cadrel.cli.test_run import BROWSER, goes, run


def test_the_whole_suite_is_two_goes_that_leave_nothing_out() -> None:
    browser, computing = goes([], cores=2)
    assert computing[0] == "tests"
    assert f"--ignore={BROWSER}" in computing
    assert computing[computing.index("-n") + 1] == "3", "some of them wait for a drive"
    assert browser == [BROWSER]


@pytest.mark.parametrize("arguments", [["-k", "halls"], ["tests/core", "-x"]])
def test_arguments_go_to_pytest_as_they_are(arguments: list[str]) -> None:
    assert goes(arguments, cores=8) == [arguments]


def test_what_fails_behind_fails_the_suite_and_is_shown_whole(
    tmp_path: Path, capfd: pytest.CaptureFixture[str]
) -> None:
    statuses = run([["--version"], ["--an-option-that-pytest-has-not"]], tmp_path / "beside")
    assert statuses == [0, pytest.ExitCode.USAGE_ERROR]
    said = capfd.readouterr().out
    assert "unrecognized arguments: --an-option-that-pytest-has-not" in said
