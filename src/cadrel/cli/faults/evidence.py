"""The draw over faults and situations, the table, and docs/evidence/faults.md."""

import json
import random
import statistics
import tempfile
import time
from collections import Counter
from dataclasses import asdict
from pathlib import Path

from cadrel.cli.faults.disk import fill_the_disk
from cadrel.cli.faults.episode import BACK, GOES_ON, Episode, Seen
from cadrel.cli.faults.faults import FAULTS, SITUATIONS, Fault
from cadrel.cli.faults.rigged import Rigged

LONGEST_DELAY = 2.5  # [s] into a situation


def drawn(episodes: int, seed: int) -> list[tuple[Fault, str, float]]:
    """Return faults, situations and delays: every fault in every situation first, then at random."""
    rng = random.Random(seed)
    pairs = [(f, s) for f in FAULTS for s in SITUATIONS]
    rng.shuffle(pairs)
    while len(pairs) < episodes:
        pairs.append((rng.choice(FAULTS), rng.choice(SITUATIONS)))
    return [(f, s, rng.uniform(0.1, LONGEST_DELAY)) for f, s in pairs[:episodes]]


def fault_evidence(*, episodes: int, seed: int, out: Path, log: Path | None = None) -> int:
    """Run every episode on one application, and write the document; 0 if everything wanted holds.

    What each episode saw is added to the `log`; of a draw that was interrupted, what is in it is not run again.
    """
    with tempfile.TemporaryDirectory(prefix="cadrel-faults-") as folder:
        rigged = Rigged(Path(folder))
        rigged.start()
        try:
            seen = _all(rigged, drawn(episodes, seed), log)
            disk = fill_the_disk()
        finally:
            rigged.stop()
    out.parent.mkdir(parents=True, exist_ok=True)
    out.write_text(document(seen, disk, seed=seed))
    bad = [s for s in seen if not s.is_good]
    print(f"{len(seen) - len(bad)} of {len(seen)} as wanted; {out}")
    return 1 if bad else 0


def _all(rigged: Rigged, plan: list[tuple[Fault, str, float]], log: Path | None) -> list[Seen]:
    client = rigged.client()
    seen = {k: one for k, one in _logged(log).items() if k < len(plan)}
    if any((one.fault, one.situation) != plan[k][:2] for k, one in seen.items()):
        raise SystemExit(f"{log} is of another draw.")
    left = [k for k in range(len(plan)) if k not in seen]
    episode, begun = Episode(rigged, client), time.monotonic()
    for done, k in enumerate(left, 1):
        fault, situation, delay = plan[k]
        try:
            one = episode.run(fault, situation, delay=delay)
        except Exception as error:  # the episode could not even be prepared: that counts as a miss, not as nothing
            one = Seen(fault, situation, lost=[f"{type(error).__name__}: {str(error)[:200]}"])
        seen[k] = one
        if log is not None:
            with log.open("a") as file:
                file.write(json.dumps({"episode": k, **asdict(one), "fault": fault.key}) + "\n")
        minutes = (time.monotonic() - begun) / done * (len(left) - done) / 60
        mark = "ok " if one.is_good else "BAD"
        stood = "goes on" if one.limit is None else f"{one.standstill} of {one.limit}"
        print(
            f"{k + 1:4d}/{len(plan)} {mark} {fault.key:16} {situation:12} stood {stood} back {one.back} {one.ended} "
            f"{one.false or ''} {one.lost or ''}  ({minutes:.0f} min left)",
            flush=True,
        )
    episode.close()
    return [seen[k] for k in sorted(seen)]


def _logged(log: Path | None) -> dict[int, Seen]:
    """Return what an interrupted draw has seen already, by the number of the episode."""
    if log is None or not log.exists():
        return {}
    by_key = {f.key: f for f in FAULTS}
    rows = [json.loads(line) for line in log.read_text().splitlines()]
    return {row.pop("episode"): Seen(**{**row, "fault": by_key[row["fault"]]}) for row in rows}


def document(seen: list[Seen], disk: list[tuple[str, bool, str]], *, seed: int) -> str:
    """Return the Markdown document."""
    bad = [s for s in seen if not s.is_good]
    lines = [
        "# Faults",
        "",
        f"`bin/cadrel evidence faults --episodes {len(seen)} --seed {seed}`: parts of a running application killed, "
        f"frozen or cut off, in jog and in every procedure, up to {LONGEST_DELAY:g} s after it began to move. "
        "Standstill is by the drive's own clock from the fault on; the page's words are held against the drive, asked "
        "past the application every 10 ms, with 1 s of grace. Wanted: standstill within 0.2 s (held jog), 1 s (worker "
        "lost), 3 s (nobody watches); nothing false, nothing lost, back at work within "
        f"{BACK:g} s without a restart (the supervisor excepted: it is started again). Where a fault lets a run go on, "
        f"short ones run to their end, whose result must be there; long ones are seen to go on for {GOES_ON:g} s, then "
        "aborted, which must work. With the stand-in killed its plant is gone: its standstill is no measurement.",
        "",
        f"**{len(seen) - len(bad)} of {len(seen)} as wanted.** False statements: {sum(len(s.false) for s in seen)}. "
        f"Lost: {sum(len(s.lost) for s in seen)}.",
        "",
        "| fault | episodes | as wanted | standstill, worst of asked [s] | back at work, median and worst [s] | runs |",
        "| --- | --- | --- | --- | --- | --- |",
    ]
    for fault in FAULTS:
        rows = [s for s in seen if s.fault is fault]
        if not rows:
            continue
        held = [s.standstill for s in rows if s.limit is not None and s.standstill is not None]
        asked = sorted({s.limit for s in rows if s.limit is not None})
        worst = f"{max(held):.2f} of {', '.join(f'{a:g}' for a in asked)}" if held else "goes on"
        backs = [s.back for s in rows if s.back is not None]
        back = f"{statistics.median(backs):.1f}, {max(backs):.1f}" if backs else "–"
        ended = ", ".join(f"{n} {state}" for state, n in Counter(s.ended for s in rows if s.ended).most_common())
        good = sum(s.is_good for s in rows)
        lines.append(f"| {fault.label} | {len(rows)} | {good} | {worst} | {back} | {ended or '–'} |")
    lines += ["", "| situation | episodes | as wanted |", "| --- | --- | --- |"]
    for situation in SITUATIONS:
        rows = [s for s in seen if s.situation == situation]
        lines.append(f"| {situation} | {len(rows)} | {sum(s.is_good for s in rows)} |")
    lines += ["", "## A full disk", "", "| what was written | as wanted | what was said |", "| --- | --- | --- |"]
    lines += [f"| {what} | {'yes' if good else '**no**'} | {said} |" for what, good, said in disk]
    if bad:
        lines += ["", "## Not as wanted", ""]
        for s in bad:
            late = f"stood after {s.standstill} s of {s.limit}" if s.limit and (s.standstill or 99) > s.limit else ""
            slow = "" if s.back is not None and s.back <= BACK else f"back after {s.back} s"
            lines.append(
                f"- {s.fault.label}, {s.situation}: {'; '.join(filter(None, [late, slow, *s.false, *s.lost]))}"
            )
    return "\n".join(lines) + "\n"
