"""Recorded runs as CSV: one column a channel, unit in the heading, RFC 4180."""

import csv
import io
from collections.abc import Mapping

import numpy as np
from numpy.typing import NDArray


def recording_csv(period: float, channels: Mapping[str, NDArray[np.float64]], units: Mapping[str, str]) -> str:
    """Return the text of a recording. `period` in seconds; `units` by channel."""
    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow(["time [s]", *[f"{k} [{units.get(k, '')}]" for k in channels]])
    rows = np.stack([np.asarray(v, dtype=float) for v in channels.values()], axis=1)
    for i, row in enumerate(rows):
        writer.writerow([f"{i * period:.7g}", *[f"{x:.7g}" for x in row]])
    return out.getvalue()


FORMULA = ("=", "+", "-", "@", "\t", "\r")  # what a spreadsheet would take for the begin of a formula


def text_cell(text: str) -> str:
    """Return a text as a cell that no spreadsheet reads as a formula; `text_of_cell` gives it back."""
    return f"'{text}" if text.startswith((*FORMULA, "'")) else text


def text_of_cell(cell: str) -> str:
    """Return the text that `text_cell` made a cell of."""
    return cell[1:] if cell.startswith("'") and cell[1:].startswith((*FORMULA, "'")) else cell
