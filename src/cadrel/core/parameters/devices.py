"""The kinds of feedback device, each declared once: its names, the drive's code, and what tells it from the others.

Everything above asks a kind for a trait, never for its name. A further kind is one row here, one reader in
`core.feedback.device`, its own checks in `core.feedback.checks` where it has any, and, for the stand-in, one branch of
the kernel's tick.
"""

from dataclasses import dataclass


@dataclass(frozen=True, slots=True, kw_only=True)
class DeviceKind:
    """One kind of device on the motor."""

    key: str  # as entered and in files
    code: int  # what the drive's feedback input is set to
    label: str  # as offered on the page
    short: str  # as the drive's value is shown
    noun: str  # with its article, for sentences
    may_have_halls: bool = False  # Hall signals may come beside it, or are all there is
    may_have_index: bool = False
    is_absolute: bool = False  # tells the angle within one turn at power-up
    has_edges: bool = False  # speed comes from counted edges: their age is a delay
    has_sine: bool = False  # sine and cosine are read, their circle can be looked at; counts tremble at rest
    has_words: bool = False  # sends words with a layout and a checksum
    tells_sectors_only: bool = False  # of 60° electrical; a map of edges is learned in place of an offset
    repeats_in_turn: bool = False  # its own turns divide the motor's: the pole pairs must be a multiple
    converts_signals: bool = False  # sine and cosine are demodulated from an excitation
    backward: str = "A and B are swapped"  # what makes it count backward, beside phases and mounting

    @property
    def counts_lines(self) -> bool:
        """Whether edges of A and B are counted."""
        return self.has_edges and not self.tells_sectors_only


DEVICE_KINDS = {
    k.key: k
    for k in (
        DeviceKind(
            key="incremental", code=0, label="incremental, A and B", short="incremental", noun="an incremental device",
            may_have_halls=True, may_have_index=True, has_edges=True,
        ),
        DeviceKind(
            key="sincos", code=1, label="sine and cosine, 1 Vpp", short="sine and cosine", noun="sine and cosine",
            may_have_halls=True, may_have_index=True, has_sine=True,
            backward="sine and cosine are swapped or one of them is inverted",
        ),
        DeviceKind(
            key="halls", code=4, label="Halls alone", short="Halls alone", noun="Halls", may_have_halls=True,
            has_edges=True, tells_sectors_only=True,
        ),
        DeviceKind(
            key="resolver", code=2, label="resolver", short="resolver", noun="a resolver", is_absolute=True,
            has_sine=True, repeats_in_turn=True, converts_signals=True,
            backward="sine and cosine of the resolver are swapped, or its excitation is reversed",
        ),
        DeviceKind(
            key="serial", code=3, label="serial, absolute", short="serial", noun="a serial device", is_absolute=True,
            has_words=True, backward="the device counts the other way by its setting",
        ),
    )
}  # fmt: skip
BY_CODE = {k.code: k for k in DEVICE_KINDS.values()}


def kinds_with(trait: str) -> tuple[str, ...]:
    """Return the keys of all kinds that have a trait, by the field's name of `DeviceKind`."""
    return tuple(k.key for k in DEVICE_KINDS.values() if getattr(k, trait))
