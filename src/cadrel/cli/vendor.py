"""Refresh the scripts, styles and fonts that ship with the application.

Everything a browser loads is in the repository. This command fetches the pinned versions from the npm
registry, copies the few files in use and writes `vendor.json` with version, licence and SHA-256 of each.
"""

import hashlib
import json
import shutil
import subprocess
import tarfile
import tempfile
from pathlib import Path

SHIPPED = Path(__file__).resolve().parents[1] / "web" / "static" / "vendor"
TEST_ONLY = Path(__file__).resolve().parents[3] / "tests" / "browser" / "vendor"

# package, version, {file in the package: file shipped}, where to
PACKAGES: list[tuple[str, str, dict[str, str], Path]] = [
    ("htmx.org", "2.0.11", {"dist/htmx.min.js": "htmx/htmx.min.js"}, SHIPPED),
    ("@alpinejs/csp", "3.17.4", {"dist/cdn.min.js": "alpine/alpine-csp.min.js"}, SHIPPED),
    ("bootstrap", "5.3.9", {"dist/css/bootstrap.min.css": "bootstrap/bootstrap.min.css"}, SHIPPED),
    (
        "uplot",
        "1.6.32",
        {
            "dist/uPlot.esm.js": "uplot/uPlot.esm.js",
            "dist/uPlot.d.ts": "uplot/uPlot.esm.d.ts",  # its types, for the check of our scripts
            "dist/uPlot.min.css": "uplot/uPlot.min.css",
        },
        SHIPPED,
    ),
    (
        "@fontsource/barlow-semi-condensed",
        "5.3.0",
        {
            f"files/barlow-semi-condensed-latin-{w}-normal.woff2": f"fonts/barlow-semi-condensed-{w}.woff2"
            for w in (400, 500, 600)
        },
        SHIPPED,
    ),
    (
        "@fontsource/jetbrains-mono",
        "5.3.0",
        {f"files/jetbrains-mono-latin-{w}-normal.woff2": f"fonts/jetbrains-mono-{w}.woff2" for w in (400, 500)},
        SHIPPED,
    ),
    ("axe-core", "4.14.1", {"axe.min.js": "axe/axe.min.js"}, TEST_ONLY),
]


def refresh() -> None:
    """Fetch every package in `PACKAGES` and lay its files where they ship.

    Raises
    ------
    subprocess.CalledProcessError
        npm could not fetch a package.
    """
    records: dict[Path, list[dict[str, str]]] = {}
    for name, version, files, root in PACKAGES:
        with tempfile.TemporaryDirectory() as scratch:
            subprocess.run(
                ["npm", "pack", "--silent", f"{name}@{version}"], cwd=scratch, check=True, stdout=subprocess.DEVNULL
            )
            (archive,) = Path(scratch).glob("*.tgz")
            with tarfile.open(archive) as tar:
                tar.extractall(scratch, filter="data")
            package = Path(scratch) / "package"
            licence = json.loads((package / "package.json").read_text())["license"]
            for inside, outside in files.items():
                target = root / outside
                target.parent.mkdir(parents=True, exist_ok=True)
                shutil.copyfile(package / inside, target)
                records.setdefault(root, []).append(
                    {
                        "file": outside,
                        "package": name,
                        "version": version,
                        "licence": licence,
                        "sha256": hashlib.sha256(target.read_bytes()).hexdigest(),
                    }
                )
    for root, rows in records.items():
        (root / "vendor.json").write_text(json.dumps(rows, indent=1) + "\n")
