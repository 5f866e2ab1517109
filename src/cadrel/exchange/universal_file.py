"""Frequency responses as universal files: dataset 58, function at nodal degree of freedom, as text.

Written by pyuff. Lines of a multisine are spread unevenly, so every value has its frequency beside it.
"""

import tempfile
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import pyuff
from numpy.typing import NDArray

FREQUENCY_RESPONSE, COHERENCE = 4, 6  # function types of dataset 58
FREQUENCY, GENERAL = 18, 1  # kinds of data of its axes
DOUBLE, COMPLEX_DOUBLE, UNEVEN = 4, 6, 0
PLAIN = str.maketrans({"·": " ", "²": "2", "°": "deg", "Ω": "ohm", "–": "-"})
LINE, UNIT = 78, 20  # signs of an identification line, and of a unit


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class NamedResponse:
    """One curve of a run. Arrays of shape (n,)."""

    name: str
    unit: str  # of the value, as it is printed
    frequency: NDArray[np.float64]  # [Hz]
    value: NDArray[np.complex128]
    coherence: NDArray[np.float64] | None = None


def response_uff(responses: Sequence[NamedResponse], *, title: str, when: str) -> bytes:
    """Return a universal file: one function a response, and one for each coherence there is.

    Parameters
    ----------
    responses : sequence of NamedResponse
        Node 1 of the file is the motor; what they are of stands in their identification lines.
    title, when : str
        Of the run; the first two identification lines say what, the third says when.
    """
    sets = []
    for response in responses:
        sets.append(_function(response, title, when, FREQUENCY_RESPONSE, response.value))
        if response.coherence is not None:
            sets.append(_function(response, title, when, COHERENCE, response.coherence))
    with tempfile.TemporaryDirectory() as folder:  # pyuff writes to a path only
        path = Path(folder) / "responses.uff"
        pyuff.UFF(str(path)).write_sets(sets, mode="overwrite")
        return path.read_bytes()


def _function(
    response: NamedResponse, title: str, when: str, kind: int, data: NDArray[np.generic]
) -> dict[str, object]:
    is_complex = kind == FREQUENCY_RESPONSE
    made = pyuff.prepare_58(
        binary=0, id1=_line(response.name), id2=_line(title), id3=_line(when), id4="NONE",
        id5=_line(f"{response.unit}, SI at the motor shaft"), func_type=kind, ver_num=0, load_case_id=0,
        rsp_ent_name="MOTOR", rsp_node=1, rsp_dir=4, ref_ent_name="MOTOR", ref_node=1, ref_dir=4,
        ord_data_type=COMPLEX_DOUBLE if is_complex else DOUBLE, num_pts=len(response.frequency),
        abscissa_spacing=UNEVEN, abscissa_min=0.0, abscissa_inc=0.0, z_axis_value=0.0,
        abscissa_spec_data_type=FREQUENCY, abscissa_axis_units_lab="Hz", ordinate_spec_data_type=GENERAL,
        ordinate_axis_units_lab=_line(response.unit if is_complex else "1")[:UNIT], orddenom_spec_data_type=GENERAL,
        data=data, x=response.frequency,
    )  # fmt: skip
    return dict(made)


def _line(text: str) -> str:
    """A line of a universal file: plain signs, and not longer than it may be."""
    plain = (
        " ".join(text.split())
        .replace("·", " ")
        .replace("²", "2")
        .replace("°", "deg")
        .replace("Ω", "ohm")
        .replace("–", "-")
    )
    return plain.encode("ascii", "replace").decode("ascii")[:LINE] or "NONE"
