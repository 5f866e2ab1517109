"""PostgreSQL in a data directory of its own, and child processes that end with their parent."""

import contextlib
import ctypes
import glob
import hashlib
import os
import secrets
import shutil
import signal
import socket
import subprocess
import sys
import time
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from pathlib import Path

MOST_DEATHS = 5  # of one process in a minute, before it is tried more slowly
REST = 5.0  # [s] between starts of a process that keeps ending
STARTING = 12.0  # [s] in which a server that ends at once is started again and again
TAKEN = 2.0  # [s] the same where its port is another's
AGAIN = 0.4  # [s] between such starts
TELL = 5.0  # [s] between words about a wait
LARGEST_LOG = 5_000_000  # [bytes] before a log is cut
PR_SET_PDEATHSIG = 1  # prctl(2)
_ROOTS = Path("/var/lib/cadrel")


class CannotStart(Exception):
    """One sentence for the terminal."""


def is_free(port: int) -> bool:
    """Whether a loopback port can be bound."""
    with socket.socket() as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind(("127.0.0.1", port))
        except OSError:
            return False
    return True


def require_free(ports: dict[str, int]) -> None:
    """Raise `CannotStart` naming the first port in use, what uses it, and what to do."""
    for what, port in ports.items():
        if is_free(port):
            continue
        user = user_of(port)
        by = f" by {user[1]} (process {user[0]})" if user else ""
        end = f"end it with 'kill {user[0]}'" if user else "end what uses it"
        raise CannotStart(f"port {port}, for the {what}, is in use{by}; {end} or set CADREL_{what.upper()}_PORT.")


def user_of(port: int) -> tuple[int, str] | None:
    """Return id and command line of the process that listens on a port; None if it is another user's. From /proc."""
    rows = [line.split() for line in Path("/proc/net/tcp").read_text().splitlines()[1:]]
    listening = "0A"
    sockets = {f"socket:[{r[9]}]" for r in rows if r[3] == listening and r[1].endswith(f":{port:04X}")}
    for folder in Path("/proc").glob("[0-9]*/fd"):
        with contextlib.suppress(OSError):  # it may end meanwhile, or be another user's
            if any(os.readlink(handle) in sockets for handle in folder.iterdir()):
                words = (folder.parent / "cmdline").read_text().split("\0")
                return int(folder.parent.name), " ".join(words).strip()[:80]
    return None


class Postgres:
    """Debian's PostgreSQL on loopback, scram passwords, its own data directory; as root it runs as `postgres`."""

    def __init__(self, var: Path, *, port: int, name: str) -> None:
        self.port = port
        self._as_root = os.geteuid() == 0
        # The server refuses to run as root, and its user may not enter root's folders: a place of its own then.
        self.home = _ROOTS / f"{identity_of(var)}-{name}" if self._as_root else var / f"pg-{name}"
        self._secret = var / f"pg-{name}.password"
        found = sorted(glob.glob("/usr/lib/postgresql/*/bin"), key=lambda p: int(p.split("/")[4]))
        if not found:
            raise CannotStart("PostgreSQL is not installed; bin/demo and bin/test install it.")
        self.programs = Path(found[-1])

    @property
    def password(self) -> str:
        """Of the role `cadrel`."""
        return self._secret.read_text()

    @property
    def pid(self) -> int | None:
        """Process id of the server, if it runs."""
        with contextlib.suppress(OSError, ValueError, IndexError):
            pid = int((self.home / "data" / "postmaster.pid").read_text().split()[0])
            if "postgres" in Path(f"/proc/{pid}/cmdline").read_text():
                return pid
        return None

    @property
    def log(self) -> Path:
        """What the server says."""
        return self.home / "log"

    def start(self, *, say: Callable[[str], None] = lambda text: None) -> None:
        """Create the data directory the first time; start the server, or take over one that was left running.

        A slow machine is waited for as long as the server lives, and told about. Raises `CannotStart`.
        """
        if not (self.home / "data" / "PG_VERSION").exists():
            self._create()
        elif not self._secret.exists():
            raise CannotStart(
                f"the data in {self.home} are there but their password, {self._secret}, is not; bring the file "
                "back, or start over with bin/demo --reset."
            )
        if self.pid is not None:
            if self.answers():
                return  # left by a supervisor that was killed
            self.stop()
        options = f"-p {self.port} -c listen_addresses=127.0.0.1 -c unix_socket_directories='' -c max_connections=60"
        begun = told = time.monotonic()
        while not self.answers():
            now = time.monotonic()
            if self.pid is None:
                if now - begun > (STARTING if is_free(self.port) else TAKEN):
                    raise CannotStart(f"PostgreSQL did not start; {self.log} says why.")
                # A killed server leaves processes behind that hold its memory for a moment: once is not enough.
                self._run("pg_ctl", "-D", str(self.home / "data"), "-l", str(self.log), "-W", "-o", options, "start")
                time.sleep(AGAIN)
            if now - told > TELL:
                told = now
                say(f"waiting for PostgreSQL, {now - begun:.0f} s so far ...")
            time.sleep(0.1)

    def answers(self) -> bool:
        """Whether the server takes connections on its port."""
        return not self._run("pg_isready", "-q", "-h", "127.0.0.1", "-p", str(self.port), "-t", "2").returncode

    def stop(self) -> None:
        """Stop the server."""
        self._run("pg_ctl", "-D", str(self.home / "data"), "-m", "fast", "-w", "stop")

    def remove(self) -> None:
        """Delete the data directory."""
        if (self.home / "data" / "postmaster.pid").exists():
            self.stop()
        shutil.rmtree(self.home, ignore_errors=True)

    def _create(self) -> None:
        self.home.mkdir(parents=True, exist_ok=True)
        self._secret.parent.mkdir(parents=True, exist_ok=True)
        self._secret.touch(mode=0o600)
        self._secret.write_text(secrets.token_urlsafe(24))
        handed = self.home / "password"
        handed.touch(mode=0o600)
        handed.write_text(self.password)
        if self._as_root:
            self.home.parent.chmod(0o755)
            for path in (self.home, handed):
                shutil.chown(path, "postgres", "postgres")
        done = self._run(
            "initdb",
            "-D",
            str(self.home / "data"),
            "-U",
            "cadrel",
            "--auth=scram-sha-256",
            "-E",
            "UTF8",
            "--locale=C.UTF-8",
            f"--pwfile={handed}",
        )
        handed.unlink()
        if done.returncode:
            shutil.rmtree(self.home, ignore_errors=True)
            raise CannotStart(f"PostgreSQL's data directory could not be made: {done.stderr.strip().splitlines()[-1]}")

    def _run(self, program: str, *arguments: str) -> subprocess.CompletedProcess[str]:
        command = [str(self.programs / program), *arguments]
        if self._as_root:
            command = ["runuser", "-u", "postgres", "--", *command]
        # pg_ctl's child inherits what it is given: files, not pipes, or reading them would wait for the server.
        with open(os.devnull, "w") as nowhere:
            err = subprocess.PIPE if program == "initdb" else nowhere
            return subprocess.run(command, stdout=nowhere, stderr=err, text=True, cwd="/", check=False)


def identity_of(var: Path) -> str:
    """Return the name by which a folder finds its data again, after it was renamed or moved.

    It is kept inside the folder, with the folder's inode. A copy of the folder, beside the one it was made from, gets a
    name of its own: two supervisors on one cluster would ruin it.
    """
    var.mkdir(parents=True, exist_ok=True)
    path, here = var / "identity", var.resolve()
    inode = here.stat().st_ino
    if path.exists():
        name, known_inode, known_path = [*path.read_text().split("\n"), "", ""][:3]
        there = Path(known_path)
        is_copy = str(inode) != known_inode and there != here and _holds(there, name)
        if name and not is_copy:
            if (str(inode), str(here)) != (known_inode, known_path):
                path.write_text(f"{name}\n{inode}\n{here}\n")
            return name
        for left in var.glob("pg-*.password"):
            left.unlink()  # of the original's cluster, which is not ours
    old = hashlib.sha1(str(here).encode()).hexdigest()[:10]  # as it was named before it had an identity
    name = old if list(_ROOTS.glob(f"{old}-*")) and not path.exists() else secrets.token_hex(5)
    path.write_text(f"{name}\n{inode}\n{here}\n")
    return name


def _holds(folder: Path, name: str) -> bool:
    with contextlib.suppress(OSError):
        return (folder / "identity").read_text().split("\n")[0] == name
    return False


def environment(database: Postgres, *, web: int, bench: int, live: int, secret: str = "") -> dict[str, str]:
    """Return the variables the web settings read."""
    return {
        "CADREL_DB_PORT": str(database.port),
        "CADREL_DB_PASSWORD": database.password,
        "CADREL_DB_NAME": "cadrel",
        "CADREL_WEB_PORT": str(web),
        "CADREL_BENCH_PORT": str(bench),
        "CADREL_LIVE_PORT": str(live),
        "CADREL_LINK_SECRET": secret,
    }


@dataclass(slots=True)
class Child:
    """A child process, and how to start it again."""

    name: str
    command: Sequence[str]
    log: Path | None
    process: subprocess.Popen[bytes]
    starts: list[float]


class Children:
    """Child processes, started again when they die, ended in reverse order; they end with their parent, however."""

    def __init__(self) -> None:
        self._children: list[Child] = []

    def start(self, name: str, command: Sequence[str], *, log: Path | None = None) -> subprocess.Popen[bytes]:
        """Start `python -m ...` in a group of its own, so that Ctrl-C reaches only the parent."""
        process = _spawn(command, log)
        self._children.append(Child(name, command, log, process, [time.monotonic()]))
        return process

    def revive(self) -> list[str]:
        """Start again what has died; returns a sentence for each. What keeps dying is tried every few seconds."""
        told = []
        for child in self._children:
            status = child.process.poll()
            if status is None:
                continue
            now = time.monotonic()
            child.starts = [t for t in child.starts if now - t < 60]
            if len(child.starts) > MOST_DEATHS and now - child.starts[-1] < REST:
                continue
            how = f"by signal {-status}" if status < 0 else f"with status {status}"
            often = f" It ends again and again: {child.log} says why." if len(child.starts) > MOST_DEATHS else ""
            child.starts.append(now)
            child.process = _spawn(child.command, child.log)
            told.append(f"the {child.name} process ended {how} and was started again.{often}")
        return told

    def is_running(self, name: str) -> bool:
        """Whether a child of that name runs."""
        return any(c.name == name and c.process.poll() is None for c in self._children)

    def stop(self) -> None:
        """Ask each to end, then insist."""
        for child in reversed(self._children):
            if child.process.poll() is None:
                child.process.send_signal(signal.SIGTERM)
        for child in reversed(self._children):
            with contextlib.suppress(subprocess.TimeoutExpired):
                child.process.wait(timeout=6)
            if child.process.poll() is None:
                child.process.kill()
                child.process.wait()
        self._children.clear()


def _spawn(command: Sequence[str], log: Path | None) -> subprocess.Popen[bytes]:
    out = open(log, "ab") if log else None  # noqa: SIM115 - handed to the child
    parent, libc = os.getpid(), ctypes.CDLL(None)

    def end_with_parent() -> None:
        libc.prctl(PR_SET_PDEATHSIG, signal.SIGKILL)
        if os.getppid() != parent:
            os._exit(1)  # the parent died before the line above

    words = [sys.executable, "-m", *command]
    process = subprocess.Popen(
        words,
        start_new_session=True,
        stdout=out,
        stderr=out,
        preexec_fn=end_with_parent,  # noqa: PLW1509 - the supervisor has one thread
    )
    if out is not None:
        out.close()
    return process


def cut_logs(paths: Iterable[Path]) -> None:
    """Keep the newer half of a log that has grown too large; the one before is kept beside it."""
    for path in paths:
        with contextlib.suppress(OSError):
            if path.stat().st_size > LARGEST_LOG:
                shutil.copyfile(path, path.with_suffix(path.suffix + ".1"))
                os.truncate(path, 0)  # its writers append: they go on at the new end


def wait_for_port(
    port: int, *, goes_on: Callable[[], bool], say: Callable[[str], None] = lambda text: None, what: str = ""
) -> bool:
    """Wait until something listens, as long as `goes_on` says that it may yet, and tell about it."""
    begun = told = time.monotonic()
    while goes_on():
        with contextlib.suppress(OSError), socket.create_connection(("127.0.0.1", port), timeout=0.3):
            return True
        now = time.monotonic()
        if now - told > TELL:
            told = now
            say(f"waiting for the {what} process, {now - begun:.0f} s so far ...")
        time.sleep(0.05)
    return False
