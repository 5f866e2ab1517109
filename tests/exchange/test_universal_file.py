"""A universal file as its published layout has it: read by hand, column by column, and by a library."""

import numpy as np
import pytest
import pyuff

from cadrel.exchange import NamedResponse, response_uff

FREQUENCY = np.array([4.0, 9.5, 37.125, 960.0])
VALUE = np.array([3.0 - 4.0j, -0.25 + 0.5j, 1e-3 + 2e-4j, -7.5e-6 - 1e-7j])
COHERENCE = np.array([0.5, 0.99, 1.0, 0.75])


def written() -> bytes:
    plant = NamedResponse(
        name="what is controlled", unit="rad/s per N·m", frequency=FREQUENCY, value=VALUE, coherence=COHERENCE
    )
    return response_uff([plant], title="Glaze table, run 12: Plant", when="27-Nov-26 03:50:00")


def test_the_text_has_the_layout_of_dataset_58() -> None:
    # Records and columns as the universal file datasets of the University of Cincinnati describe them (from memory).
    lines = written().decode("ascii").splitlines()
    assert lines[0].strip() == "-1" and lines[1].split()[0] == "58"
    assert [line.rstrip() for line in lines[2:5]] == [
        "what is controlled", "Glaze table, run 12: Plant", "27-Nov-26 03:50:00"
    ]  # fmt: skip
    assert int(lines[7][:5]) == 4  # a frequency response function
    data_type, points, spacing = (int(lines[8][k : k + 10]) for k in (0, 10, 20))
    assert (data_type, points, spacing) == (6, len(FREQUENCY), 0)  # complex, double precision, uneven
    assert int(lines[9][:10]) == 18  # over frequency
    first = [float(part) for part in lines[13].split()]
    assert first[:3] == pytest.approx([FREQUENCY[0], VALUE[0].real, VALUE[0].imag])


def test_a_reader_of_universal_files_finds_what_was_written(tmp_path: object) -> None:
    path = f"{tmp_path}/made.uff"
    with open(path, "wb") as file:
        file.write(written())
    response, coherence = pyuff.UFF(path).read_sets()
    assert (response["func_type"], coherence["func_type"]) == (4, 6)
    np.testing.assert_allclose(response["x"], FREQUENCY)
    np.testing.assert_allclose(response["data"], VALUE)
    np.testing.assert_allclose(coherence["data"], COHERENCE)
    assert response["id5"].startswith("rad/s per N m, SI at the motor shaft")


def test_what_is_no_plain_sign_does_not_break_a_line() -> None:
    odd = NamedResponse(name="größer\nals 5 °" * 12, unit="N·m", frequency=FREQUENCY, value=VALUE)
    lines = response_uff([odd], title="x", when="y").decode("ascii").splitlines()
    assert len(lines[2]) <= 80
    assert lines[3].strip() == "x"
