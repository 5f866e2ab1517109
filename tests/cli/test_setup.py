"""bin/setup.sh on machines that lack something: one clear sentence, no trace, and what it would install."""

import os
import shutil
import subprocess
from pathlib import Path

import pytest

ROOT = Path(__file__).resolve().parents[2]
TOOLS = "bash cat sha1sum cut df awk mkdir ls env id head"


@pytest.fixture
def machine(tmp_path: Path) -> Path:
    """A PATH with the base tools only; stand-ins may be added."""
    tools = tmp_path / "bin"
    tools.mkdir()
    for name in TOOLS.split():
        found = shutil.which(name)
        assert found is not None, name
        (tools / name).symlink_to(found)
    return tools


def stand_in(machine: Path, name: str, script: str) -> None:
    path = machine / name
    path.unlink(missing_ok=True)
    path.write_text(f"#!{machine / 'bash'}\n{script}\n")
    path.chmod(0o755)


def run(machine: Path, command: str, **environment: str) -> subprocess.CompletedProcess[str]:
    var = machine.parent / "var"
    script = f"set -euo pipefail; source bin/env.sh; source bin/setup.sh; {command}"
    return subprocess.run(
        [str(machine / "bash"), "-c", script],
        cwd=ROOT,
        env={"PATH": str(machine), "CADREL_VAR": str(var), "HOME": str(machine.parent)} | environment,
        capture_output=True,
        text=True,
        timeout=60,
        check=False,
    )


def sentence(done: subprocess.CompletedProcess[str]) -> str:
    """The last line it said; its status must be that of an unusable machine."""
    assert done.returncode == 2, done.stderr
    lines = done.stderr.splitlines()
    assert "Traceback" not in done.stderr
    assert all(line.startswith("cadrel: ") for line in lines), lines
    return lines[-1]


def test_without_root_or_sudo_it_names_the_package_and_whom_to_ask(machine: Path) -> None:
    stand_in(machine, "id", "echo 1000")
    said = sentence(run(machine, "setup_packages postgresql"))
    assert said == (
        "cadrel: installing postgresql needs root or sudo, and there is neither; ask an administrator to install it."
    )


def test_with_sudo_it_installs_through_it(machine: Path) -> None:
    stand_in(machine, "id", "echo 1000")
    stand_in(machine, "sudo", 'echo "$@" >>"$HOME/asked"')
    done = run(machine, "setup_packages postgresql chromium")
    assert done.returncode == 0, done.stderr
    asked = (machine.parent / "asked").read_text().splitlines()
    assert asked[0].endswith("apt-get update -qq")
    assert asked[1].endswith("apt-get install -y -qq postgresql chromium")


def test_a_failed_installation_says_where_the_reason_stands(machine: Path) -> None:
    stand_in(machine, "id", "echo 0")
    stand_in(machine, "apt-get", 'echo "E: no network" >&2; exit 100')
    said = sentence(run(machine, "setup_packages postgresql"))
    assert said == f"cadrel: postgresql could not be installed; {machine.parent}/var/apt.log says why."
    assert "E: no network" in (machine.parent / "var" / "apt.log").read_text()


def test_too_little_disk_is_said_with_both_figures(machine: Path) -> None:
    stand_in(machine, "df", "printf 'h\\n/dev/x 100 90 %s 90%% /\\n' 420")
    said = sentence(run(machine, "setup_base"))
    assert said == f"cadrel: 1500 MB of disk are needed in {machine.parent}/var, 420 MB are free."


def test_a_folder_that_cannot_be_made_is_said(machine: Path) -> None:
    blocker = machine.parent / "file"
    blocker.write_text("")
    said = sentence(run(machine, "setup_base", CADREL_VAR=str(blocker / "var")))
    assert said == f"cadrel: {blocker}/var cannot be written to."


def test_a_changed_lock_file_renews_the_environment_and_a_broken_index_is_said(machine: Path) -> None:
    venv = machine.parent / "var" / "venv" / "bin"
    fake = f'[ "$2" = venv ] && {{ mkdir -p {venv}; printf "#!{machine}/bash\\nexit 1\\n" >{venv}/python; chmod +x {venv}/python; }}; exit 0'  # noqa: E501
    stand_in(machine, "chmod", f'exec {shutil.which("chmod")} "$@"')
    stand_in(machine, "python3.11", fake)
    said = sentence(run(machine, "setup_python"))
    assert said == f"cadrel: the Python packages could not be installed; {machine.parent}/var/pip.log says why."
    assert not (machine.parent / "var" / "venv" / "lock").exists()  # so the next start tries again


def test_an_environment_that_fits_the_lock_file_is_left_alone(machine: Path) -> None:
    venv = machine.parent / "var" / "venv"
    venv.mkdir(parents=True)
    lock = subprocess.run(["sha1sum", str(ROOT / "requirements.lock")], capture_output=True, text=True, check=True)
    (venv / "lock").write_text(lock.stdout[:40] + "\n")
    stand_in(machine, "python3.11", 'case "$*" in *venv*--clear*) echo "made anew" >&2; exit 1;; esac; exit 0')
    done = run(machine, "setup_python")
    assert done.returncode == 0
    assert done.stderr == ""


@pytest.mark.parametrize("script", ["bin/demo", "bin/test", "bin/cadrel", "bin/setup.sh", "bin/env.sh", ".ci/run"])
def test_the_scripts_are_shell_without_mistakes_of_syntax(script: str) -> None:
    done = subprocess.run(["bash", "-n", str(ROOT / script)], capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stderr
    if not script.endswith(".sh"):
        assert os.access(ROOT / script, os.X_OK)
