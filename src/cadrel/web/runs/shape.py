"""Long recordings reduced to what a screen can show."""

import numpy as np
from numpy.typing import NDArray

FloatArray = NDArray[np.float32]
PREFERRED = ("shaft_el", "signal_cos", "position", "counts", "i_d", "velocity", "i_q", "current")


def reduce_min_max(y: FloatArray, *, pairs: int) -> tuple[NDArray[np.int64], FloatArray]:
    """Return indices and values that keep every extreme: the least and the largest of each of `pairs` spans."""
    n = len(y)
    if n <= 2 * pairs:
        return np.arange(n), y
    edges = np.linspace(0, n, pairs + 1).astype(np.int64)
    low = np.minimum.reduceat(y, edges[:-1])
    high = np.maximum.reduceat(y, edges[:-1])
    rising = y[edges[:-1]] <= y[np.maximum(edges[1:] - 1, 0)]
    first, second = np.where(rising, low, high), np.where(rising, high, low)
    middle = (edges[:-1] + edges[1:]) // 2
    index = np.stack([edges[:-1], middle], axis=1).ravel()
    return index, np.stack([first, second], axis=1).ravel()


def miniature(channels: dict[str, NDArray[np.float64]], curves: dict[str, object]) -> str:
    """Return the points of a 150 x 40 miniature, for an SVG polyline."""
    shown = curves.get("measured_open") or curves.get("predicted_open")
    if isinstance(shown, dict):
        x, y = np.log(np.array(shown["f"])), np.clip(np.array(shown["db"]), -60, 40)
    else:
        key = next((k for k in PREFERRED if k in channels), None)
        if key is None:
            return ""
        index, values = reduce_min_max(np.asarray(channels[key], dtype=np.float32), pairs=60)
        x, y = index.astype(float), values.astype(float)
    if len(x) < 2:
        return ""
    px = 150 * (x - x.min()) / max(float(np.ptp(x)), 1e-12)
    py = 38 - 36 * (y - y.min()) / max(float(np.ptp(y)), 1e-12)
    return " ".join(f"{a:.1f},{b:.1f}" for a, b in zip(px, py, strict=True))
