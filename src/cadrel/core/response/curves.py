"""Complex curves as they are kept and sent: plain lists, rounded."""

import numpy as np

from cadrel.core.response.estimate import FloatArray


def curve_of(frequency: FloatArray, value: np.ndarray, coherence: FloatArray | None = None) -> dict[str, list[float]]:
    """Return a complex curve as plain lists: frequency [Hz], magnitude [dB], phase [°], coherence.

    Rounded far below what any measurement resolves: curves are stored and sent by the thousand.
    """
    curve = {
        "f": np.round(frequency, 6).tolist(),
        "db": np.round(20 * np.log10(np.maximum(np.abs(value), 1e-12)), 5).tolist(),
        "deg": np.round(np.degrees(np.unwrap(np.angle(value))), 4).tolist(),
    }
    if coherence is not None:
        curve["coherence"] = np.round(coherence, 5).tolist()
    return curve
