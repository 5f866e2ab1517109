"""Motor and feedback, as printed, and what the drive keeps of them."""

from cadrel.core.parameters.parameter import Help, Parameter

MOTOR = (
    Parameter(
        key="sheet.resistance", label="Winding resistance", symbol="R", quantity="resistance", unit="ohm",
        convention="winding", step="motor", minimum=1e-3, maximum=500, default=None, required=True,
        help=Help("Resistance of the winding at 20 °C.", "Take the sheet's value and say how it was measured.",
                  "Sheets mostly print line to line, twice the phase value of a star winding."),
    ),
    Parameter(
        key="sheet.inductance", label="Winding inductance", symbol="L", quantity="inductance", unit="mH",
        convention="winding", step="motor", minimum=1e-6, maximum=2, default=None, required=True,
        help=Help("Inductance of the winding.", "Take the sheet's value; it decides the current loop's gain.",
                  "A line-to-line value taken per phase doubles the gain, and the current rings."),
    ),
    Parameter(
        key="sheet.torque_constant", label="Torque constant", symbol="Kt", quantity="torque_constant", unit="N·m/A",
        convention="per_sine", step="motor", minimum=1e-4, maximum=200, default=None,
        help=Help("Torque per ampere.", "Give this or the back-EMF constant; both let the tool check one by the other.",
                  "Per A rms is 1.41 times per A peak of the same motor."),
    ),
    Parameter(
        key="sheet.back_emf", label="Back-EMF constant", symbol="Ke", quantity="back_emf", unit="V/krpm",
        convention="back_emf", step="motor", minimum=1e-4, maximum=200, default=None,
        help=Help("Voltage at the open terminals per speed.", "Most sheets print V rms line to line per 1000 rpm.",
                  "Per 1000 rpm taken for per rad/s is wrong by 105."),
    ),
    Parameter(
        key="sheet.poles", label="Poles", symbol="2p", quantity="count", convention="poles", step="motor", minimum=1,
        maximum=100, default=None, required=True, whole=True,
        help=Help("Number of magnet poles, or of pole pairs.", "State which of the two the sheet prints.",
                  "Poles taken for pairs make the vector turn twice too fast; the pole-pair check finds it."),
    ),
    Parameter(
        key="sheet.current_continuous", label="Continuous current", symbol="Ic", quantity="current", unit="A",
        convention="sine", step="motor", minimum=0.05, maximum=1000, default=None, required=True,
        help=Help("Current the winding stands for ever, at stall.", "Use the value for your mounting.",
                  "A peak value taken as rms overheats the motor by a factor of two."),
    ),
    Parameter(
        key="sheet.current_peak", label="Peak current", symbol="Ip", quantity="current", unit="A", convention="sine",
        step="motor", minimum=0.05, maximum=5000, default=None, required=True,
        help=Help("Current allowed for a short time.", "Usually two to six times the continuous current.",
                  "Above it magnets may be weakened for good."),
    ),
    Parameter(
        key="sheet.torque_continuous", label="Continuous torque", symbol="Mc", quantity="torque", unit="N·m",
        step="motor", minimum=1e-4, maximum=1e5, default=None,
        help=Help("Torque at the continuous current, at stall.", "Optional: checks torque constant and current.",
                  "Rated torque at rated speed is smaller; it is not this one."),
    ),
    Parameter(
        key="sheet.torque_peak", label="Peak torque", symbol="Mp", quantity="torque", unit="N·m", step="motor",
        minimum=1e-4, maximum=1e6, default=None,
        help=Help("Torque at the peak current.", "Optional: shows saturation against the torque constant.",
                  "Often less than Kt times peak current, since the iron saturates."),
    ),
    Parameter(
        key="sheet.inertia", label="Rotor inertia", symbol="Jm", quantity="inertia", unit="kg·cm²", step="motor",
        minimum=1e-9, maximum=100, default=None, required=True,
        help=Help("Inertia of the rotor.", "Add the brake's if it has one.", "kg·cm² against kg·m² is 10 000."),
    ),
    Parameter(
        key="sheet.speed_max", label="Maximum speed", symbol="nmax", quantity="speed", unit="rpm", step="motor",
        minimum=0.1, maximum=20000, default=None, required=True,
        help=Help("Highest speed the motor stands.", "Mechanical limit of the sheet, not the rated speed.",
                  "The bus voltage may end the speed earlier; the map shows it."),
    ),
    Parameter(
        key="motor.resistance", label="Phase resistance", symbol="R", quantity="resistance", unit="ohm",
        storage="drive", step="motor", minimum=1e-4, maximum=500, default=1.0,
        help=Help("Per-phase resistance the drive computes with.", "Comes from the sheet, or identified.",
                  "It rises 0.39 % per kelvin."),
    ),
    Parameter(
        key="motor.inductance", label="Phase inductance", symbol="L", quantity="inductance", unit="mH",
        storage="drive", step="motor", minimum=1e-7, maximum=2, default=1e-3,
        help=Help("Per-phase inductance the drive decouples with.", "Comes from the sheet, or identified.",
                  "It falls with current where the iron saturates."),
    ),
    Parameter(
        key="motor.flux_linkage", label="Flux linkage", symbol="ψ", quantity="flux", unit="mWb", storage="drive",
        step="motor", minimum=1e-6, maximum=10, default=0.01,
        help=Help("Peak flux linkage of one phase; torque is 1.5 · p · ψ · iq.", "From Kt or Ke, or identified.",
                  "Kt here is per ampere peak."),
    ),
    Parameter(
        key="motor.pole_pairs", label="Pole pairs", symbol="p", quantity="count", storage="drive", step="motor",
        minimum=1, maximum=100, default=1.0, whole=True, restart=True,
        help=Help("Electrical turns in one mechanical turn.", "Half the number of poles.",
                  "A wrong number shows as torque that fades as the shaft turns."),
    ),
    Parameter(
        key="motor.current_continuous", label="Continuous current (peak of sine)", symbol="Ic", quantity="current",
        unit="A", storage="drive", step="motor", minimum=0.01, maximum=2000, default=1.0, cia402="6075h",
        help=Help("Current the drive's thermal model allows for ever.", "Smaller of motor and drive.",
                  "In the drive it is the peak of the sine."),
    ),
    Parameter(
        key="motor.current_peak", label="Peak current (peak of sine)", symbol="Ip", quantity="current", unit="A",
        storage="drive", step="motor", minimum=0.01, maximum=5000, default=1.0,
        help=Help("Current above which the drive cuts power.", "The motor's peak current.",
                  "In the drive it is the peak of the sine."),
    ),
    Parameter(
        key="motor.speed_max", label="Maximum motor speed", symbol="nmax", quantity="speed", unit="rpm",
        storage="drive", step="motor", minimum=0.01, maximum=20000, default=100.0, cia402="6080h",
        help=Help("Speed above which the drive cuts power.", "From the sheet.", "Not the rated speed."),
    ),
)

FEEDBACK = (
    Parameter(
        key="feedback.lines", label="Lines per revolution", symbol="N", quantity="count", step="feedback", minimum=1,
        maximum=1e7, default=None, required=True, whole=True,
        help=Help("Periods of A per motor revolution.", "Printed as lines, pulses or ppr; counts are four times that.",
                  "Counts typed for lines: one marked turn then shows four."),
    ),
    Parameter(
        key="feedback.counts", label="Counts per revolution", symbol="4N", quantity="count", storage="drive",
        step="feedback", minimum=4, maximum=4e7, default=4096.0, whole=True, restart=True, cia402="608Fh",
        help=Help("Edges of A and B per motor revolution.", "Four times the lines.", "Lines typed for counts."),
    ),
    Parameter(
        key="feedback.direction", label="Counting direction", symbol="", quantity="count", step="feedback",
        storage="drive", minimum=0, maximum=1, default="0", choices=(("0", "as wired"), ("1", "inverted")),
        help=Help(
            "Whether counts are taken negative.", "The wiring check says which one makes a forward vector count up.",
            "Wrong way round, the motor runs away at once."
        ),
    ),
    Parameter(
        key="feedback.index", label="Index", symbol="Z", quantity="count", step="feedback", storage="drive",
        minimum=0, maximum=1, default="1", choices=(("1", "present"), ("0", "none")),
        help=Help("One pulse per revolution.", "With it the offset is exact after the first turn of every power-up.",
                  "An index that is wired inverted never comes."),
    ),
    Parameter(
        key="feedback.halls", label="Hall signals", symbol="H", quantity="count", step="feedback", storage="drive",
        minimum=0, maximum=1, default="1", choices=(("1", "three, 120° apart"), ("0", "none")),
        help=Help("Three digital signals that tell the 60° sector at power-up.",
                  "With them the motor starts without moving first.", "States 0 and 7 do not exist: a wire is off."),
    ),
    Parameter(
        key="feedback.edge_rate_max", label="Maximum edge rate", symbol="fmax", quantity="frequency", unit="kHz",
        step="feedback", minimum=100, maximum=1e8, default=4e6,
        help=Help("Fastest counting the input stands.", "From the drive's or encoder's sheet, the smaller.",
                  "Counted per edge, four times the frequency of A."),
    ),
)
