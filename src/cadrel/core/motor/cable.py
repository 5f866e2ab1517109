"""The motor cable's share of the winding's resistance."""

COPPER_RESISTIVITY = 0.017241e-6  # [ohm·m] at 20 °C, annealed copper, IEC 60028


def cable_resistance(*, length: float, section: float) -> float:
    """Return the resistance of one copper wire at 20 °C. [ohm]

    Parameters
    ----------
    length : float
        One way. [m]
    section : float
        Copper cross-section. [m²]

    Notes
    -----
    Of the ideal wire; IEC 60228 allows a finished conductor up to some 16 % more, for the lay and thinner strands.
    """
    return COPPER_RESISTIVITY * length / section
