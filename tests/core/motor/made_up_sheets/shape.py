"""A made-up sheet: name, kind, rows of (entry, printed value, unit, convention, SI per phase and peak)."""

Row = tuple[str, float, str, str, float]
Sheet = tuple[str, str, list[Row]]
