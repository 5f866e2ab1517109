"""How the suite is run."""

import pytest

from cadrel.cli.test_run import BROWSER, goes


def test_the_whole_suite_is_two_goes_that_leave_nothing_out() -> None:
    computing, browser = goes([], cores=2)
    assert computing[0] == "tests"
    assert f"--ignore={BROWSER}" in computing
    assert browser == [BROWSER]


@pytest.mark.parametrize("arguments", [["-k", "halls"], ["tests/core", "-x"]])
def test_arguments_go_to_pytest_as_they_are(arguments: list[str]) -> None:
    assert goes(arguments, cores=8) == [arguments]
