"""bin/cadrel: names the commands and hands over."""

import argparse
import os
import sys
from pathlib import Path

SUBJECTS = ("route", "commutation", "faults", "verdicts", "sheets", "input", "guard", "identification", "tuning")


def main() -> int:
    """Parse the command line and run one command; returns the exit status."""
    parser = argparse.ArgumentParser(prog="cadrel", description="Commission servo axes.")
    commands = parser.add_subparsers(dest="command", required=True)
    c = commands.add_parser("commission", help="commission an axis from a file against a bench built from a file")
    c.add_argument("--axis", type=Path, required=True, help="what the engineer knows (docs/formats/axis.md)")
    c.add_argument("--rig", type=Path, required=True, help="the truth (docs/formats/rig.md)")
    c.add_argument("--out", type=Path, required=True, help="where the result goes (docs/formats/result.md)")
    c.add_argument("--here", type=float, help="where the axis stands, in its unit (at zero)")
    c.add_argument("--seed", type=int, default=1)
    c.add_argument("--quiet", action="store_true")
    b = commands.add_parser("benchmark", help="ratios of performance, measured in one run")
    b.add_argument("subject", nargs="?", choices=("speed", "live", "busy"), default="speed")
    b.add_argument("--seconds", type=float, help="live: how long they look on (60); busy: how long it is busy (600)")
    b.add_argument("--no-pages", action="store_true", help="leave out the page times (they need the database)")
    e = commands.add_parser("evidence", help="accuracy over drawn benches, as a table")
    e.add_argument(
        "subject",
        nargs="?",
        choices=SUBJECTS,
        default="route",
    )
    e.add_argument("--benches", type=int, help="benches without faults (route 10, commutation 200)")
    e.add_argument("--pairs", type=int, default=100, help="commutation: drawn pairs of wiring faults")
    e.add_argument("--each", type=int, default=2, help="commutation: benches for each single fault on each device")
    e.add_argument("--searches", type=int, default=60, help="commutation: small-motion searches")
    e.add_argument("--log", type=Path, help="faults: what each episode saw; an interrupted draw goes on from it")
    e.add_argument("--episodes", type=int, default=200, help="faults: how many kills, freezes and cuts")
    e.add_argument("--sheets", type=int, default=600, help="sheets: how many are drawn")
    e.add_argument("--cases", type=int, default=10_000, help="input: how many damaged files and forms")
    e.add_argument("--seed", type=int, default=2026)
    e.add_argument(
        "--queue", nargs="?", const="own", metavar="CONNECTION",
        help="identification, tuning: spread the benches through a queue in PostgreSQL; without a connection in one of "
        "its own, on this machine",
    )  # fmt: skip
    e.add_argument(
        "--on-load", action="store_true", help="tuning: every axis has a device on its load, for the position loop"
    )
    e.add_argument(
        "--at-ends", action="store_true", help="tuning: axes with half of all figures at an end of their range"
    )
    e.add_argument("--workers", type=int, help="of them on this machine (all its cores; 0: only others work)")
    e.add_argument("--out", type=Path, help="where the document goes (commutation: docs/evidence/commutation.md)")
    w = commands.add_parser("evidence-worker", help="take benches from a queue that `evidence --queue` fills elsewhere")
    w.add_argument("queue", metavar="CONNECTION", help="as in `host=… dbname=… user=… password=…`")
    w.add_argument("--workers", type=int, help="all cores of this machine if none is given")
    k = commands.add_parser("backup", help="write everything that is kept into one file")
    k.add_argument("file", type=Path)
    r = commands.add_parser("restore", help="put everything back as a backup has it; Cadrel must not run")
    r.add_argument("file", type=Path)
    commands.add_parser("formats", help="write the JSON Schemas into docs/formats")
    commands.add_parser("reference", help="write the parameter reference into docs")
    commands.add_parser("vendor", help="refresh shipped scripts, styles and fonts from the npm registry")
    s = commands.add_parser("screenshots", help="take docs/screenshots anew from a running bin/demo --reset")
    s.add_argument("views", nargs="*", help="names of pictures; all if none is given")
    s.add_argument("--url", default="http://127.0.0.1:8460/")
    commands.add_parser("warm-up", help="compile the kernels into the cache")
    arguments = parser.parse_args()
    return _run(arguments)


def _run(arguments: argparse.Namespace) -> int:
    if arguments.command == "commission":
        from cadrel.cli.commission import commission

        return commission(
            arguments.axis,
            arguments.rig,
            arguments.out,
            seed=arguments.seed,
            quiet=arguments.quiet,
            here=arguments.here,
        )
    if arguments.command == "benchmark" and arguments.subject != "speed":
        from cadrel.cli import live_benchmark

        if arguments.subject == "live":
            return live_benchmark.live(seconds=arguments.seconds or 60.0)
        return live_benchmark.busy(seconds=arguments.seconds or 600.0)
    if arguments.command == "benchmark":
        from cadrel.cli.benchmark import benchmark

        return benchmark(pages=not arguments.no_pages)
    if arguments.command == "evidence":
        return _evidence(arguments)
    if arguments.command == "evidence-worker":
        from cadrel.cli.spread import workers

        return workers(arguments.queue, arguments.workers or len(os.sched_getaffinity(0)))
    if arguments.command in ("backup", "restore"):
        from cadrel.cli import backup

        return (backup.backup if arguments.command == "backup" else backup.restore)(arguments.file)
    if arguments.command == "vendor":
        from cadrel.cli.vendor import refresh

        refresh()
        return 0
    if arguments.command == "screenshots":
        from cadrel.cli.screenshots import screenshots
        from cadrel.cli.stack import ROOT

        return screenshots(url=arguments.url, out=ROOT / "docs" / "screenshots", only=arguments.views)
    from cadrel.cli import documents

    return {"formats": documents.write_schemas, "reference": documents.write_reference, "warm-up": documents.warm_up}[
        arguments.command
    ]()


def _evidence(arguments: argparse.Namespace) -> int:
    if arguments.subject == "route":
        from cadrel.cli.evidence import evidence

        return evidence(benches=arguments.benches or 10, seed=arguments.seed, out=arguments.out)
    from cadrel.cli.stack import ROOT

    if arguments.subject == "verdicts":
        from cadrel.cli.verdict_evidence import verdict_evidence

        out = arguments.out or ROOT / "docs" / "evidence" / "verdicts.md"
        return verdict_evidence(benches=arguments.benches or 60, seed=arguments.seed, out=out)
    if arguments.subject == "identification":
        from cadrel.cli.identification_evidence import evidence as identification_evidence

        out = arguments.out or ROOT / "docs" / "evidence" / "identification.md"
        kept = ROOT / "var" / "evidence" / f"identification-{arguments.seed}.jsonl"
        return identification_evidence(
            benches=arguments.benches or 200, seed=arguments.seed, out=out, kept=kept, queue=arguments.queue,
            workers=arguments.workers,
        )  # fmt: skip
    if arguments.subject == "tuning":
        from cadrel.cli.tuning_evidence import evidence as tuning_evidence

        fleet = "on-load" if arguments.on_load else "at-ends" if arguments.at_ends else ""
        name = f"tuning-{fleet}" if fleet else "tuning"
        out = arguments.out or ROOT / "docs" / "evidence" / f"{name}.md"
        kept = ROOT / "var" / "evidence" / f"{name}-{arguments.seed}.jsonl"
        return tuning_evidence(
            benches=arguments.benches or 200, seed=arguments.seed, out=out, kept=kept, fleet=fleet,
            queue=arguments.queue, workers=arguments.workers,
        )  # fmt: skip
    if arguments.subject == "sheets":
        from cadrel.cli.sheet_evidence import evidence as sheet_evidence

        out = arguments.out or ROOT / "docs" / "evidence" / "sheets.md"
        return sheet_evidence(sheets=arguments.sheets, seed=arguments.seed, out=out)
    if arguments.subject == "guard":
        from cadrel.cli.guard_evidence import evidence as guard_evidence

        out, cores = arguments.out or ROOT / "docs" / "evidence" / "guard.md", len(os.sched_getaffinity(0))
        return guard_evidence(benches=arguments.benches or 60, seed=arguments.seed, out=out, cores=cores)
    if arguments.subject == "input":
        from cadrel.cli.input_evidence import evidence as input_evidence

        out = arguments.out or ROOT / "docs" / "evidence" / "input.md"
        return input_evidence(cases=arguments.cases, seed=arguments.seed, out=out)
    if arguments.subject == "faults":
        from cadrel.cli.faults.evidence import fault_evidence

        out = arguments.out or ROOT / "docs" / "evidence" / "faults.md"
        return fault_evidence(episodes=arguments.episodes, seed=arguments.seed, out=out, log=arguments.log)
    from cadrel.cli.phasing_evidence import phasing_evidence

    return phasing_evidence(
        benches=arguments.benches or 200, pairs=arguments.pairs, each=arguments.each, found=arguments.searches,
        seed=arguments.seed, out=arguments.out or ROOT / "docs" / "evidence" / "commutation.md",
    )  # fmt: skip


if __name__ == "__main__":
    sys.exit(main())
