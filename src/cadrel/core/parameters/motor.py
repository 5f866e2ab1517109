"""The motor as its sheet prints it, of every kind, and what the drive keeps of it."""

from cadrel.core.parameters.parameter import Help, Parameter

ROTARY = (("sheet.kind", ("rotary",)),)
LINEAR = (("sheet.kind", ("linear",)),)
STEPPER = (("sheet.kind", ("stepper",)),)
INDUCTION = (("sheet.kind", ("induction",)),)
VOICE_COIL = (("sheet.kind", ("voice_coil",)),)
STRAIGHT = (("sheet.kind", ("linear", "voice_coil")),)
TURNING = (("sheet.kind", ("rotary", "dc", "stepper", "induction")),)
MAGNETS = (("sheet.kind", ("rotary", "linear", "dc", "voice_coil", "stepper")),)
TORQUE_BY_CURRENT = (("sheet.kind", ("rotary", "dc", "stepper")),)

MOTOR = (
    Parameter(
        key="sheet.kind", label="Kind of motor", symbol="", quantity="count", step="motor", minimum=0, maximum=1,
        default="rotary", required=True,
        choices=(
            ("rotary", "synchronous, rotary"), ("linear", "synchronous, linear"), ("dc", "brushed dc"),
            ("voice_coil", "voice coil, linear"), ("stepper", "stepper, closed loop"), ("induction", "induction"),
        ),
        help=Help("Decides what is asked for and how values may be stated.",
                  "Brushless ac and dc servo motors with magnets are synchronous.",
                  "A brushless dc motor is no brushed one: it has three wires and needs commutation."),
    ),
    Parameter(
        key="sheet.resistance", label="Winding resistance", symbol="R", quantity="resistance", unit="ohm",
        convention="winding", step="motor", minimum=1e-4, maximum=2000, default=None, required=True, when=MAGNETS,
        help=Help("Resistance of the winding at 20 °C.", "Take the sheet's value and say how it was measured.",
                  "Sheets mostly print line to line, twice the phase value of a star winding."),
    ),
    Parameter(
        key="sheet.inductance", label="Winding inductance", symbol="L", quantity="inductance", unit="mH",
        convention="winding", step="motor", minimum=1e-7, maximum=10, default=None, required=True, when=MAGNETS,
        help=Help("Inductance of the winding.", "Take the sheet's value; it decides the current loop's gain.",
                  "A line-to-line value taken per phase doubles the gain, and the current rings."),
    ),
    Parameter(
        key="sheet.torque_constant", label="Torque constant", symbol="Kt", quantity="torque_constant", unit="N·m/A",
        convention="per_sine", step="motor", minimum=1e-5, maximum=200, default=None, when=TORQUE_BY_CURRENT,
        improves="One of torque and back-EMF constant is needed; both check each other.",
        help=Help("Torque per ampere.", "Give this or the back-EMF constant; both let the tool check one by the other.",
                  "Per A rms is 1.41 times per A peak of the same motor."),
    ),
    Parameter(
        key="sheet.force_constant", label="Force constant", symbol="Kf", quantity="force_constant", unit="N/A",
        convention="per_sine", step="motor", minimum=1e-3, maximum=5000, default=None, when=STRAIGHT,
        improves="One of force and back-EMF constant is needed; both check each other.",
        help=Help("Force per ampere.", "Give this or the back-EMF constant; both let the tool check one by the other.",
                  "Per A rms is 1.41 times per A peak of the same motor."),
    ),
    Parameter(
        key="sheet.back_emf", label="Back-EMF constant", symbol="Ke", quantity="back_emf", unit="V/krpm",
        convention="back_emf", step="motor", minimum=1e-5, maximum=200, default=None, when=TORQUE_BY_CURRENT,
        improves="One of torque and back-EMF constant is needed; both check each other.",
        help=Help("Voltage at the open terminals per speed.",
                  "Most sheets print V rms line to line per 1000 rpm; small dc motors print rpm per volt.",
                  "Per 1000 rpm taken for per rad/s is wrong by 105."),
    ),
    Parameter(
        key="sheet.back_emf_linear", label="Back-EMF constant", symbol="Ke", quantity="back_emf_linear", unit="V·s/m",
        convention="back_emf", step="motor", minimum=1e-3, maximum=5000, default=None, when=STRAIGHT,
        improves="One of force and back-EMF constant is needed; both check each other.",
        help=Help("Voltage at the open terminals per speed.", "Most sheets print V peak or rms line to line.",
                  "Per phase is 1/1.73 of line to line."),
    ),
    Parameter(
        key="sheet.poles", label="Poles", symbol="2p", quantity="count", convention="poles", step="motor", minimum=1,
        maximum=100, default=None, required=True, whole=True, when=ROTARY,
        help=Help("Number of magnet poles, or of pole pairs.", "State which of the two the sheet prints.",
                  "Poles taken for pairs make the vector turn twice too fast; the pole-pair check finds it."),
    ),
    Parameter(
        key="sheet.steps", label="Full steps", symbol="z", quantity="steps", unit="1/rev", step="motor", minimum=12,
        maximum=2000, default=None, required=True, whole=True, when=STEPPER,
        help=Help("Full steps per turn, or degrees per full step.", "1.8° is 200 steps, 50 pole pairs.",
                  "Microsteps of some driver are not the motor's."),
    ),
    Parameter(
        key="sheet.pitch", label="Magnetic pitch", symbol="τ", quantity="length", unit="mm", convention="pitch",
        step="motor", minimum=1e-3, maximum=1, default=None, required=True, when=LINEAR,
        help=Help("Length of one electrical turn along the magnets.", "N to N is a whole turn, N to S half of one.",
                  "The distance between neighbouring magnets is N to S."),
    ),
    Parameter(
        key="sheet.current_continuous", label="Continuous current", symbol="Ic", quantity="current", unit="A",
        convention="sine", step="motor", minimum=0.01, maximum=2000, default=None, required=True, when=MAGNETS,
        help=Help("Current the winding stands for ever, at stall.", "Use the value for your mounting.",
                  "A peak value taken as rms overheats the motor by a factor of two."),
    ),
    Parameter(
        key="sheet.current_peak", label="Peak current", symbol="Ip", quantity="current", unit="A", convention="sine",
        step="motor", minimum=0.01, maximum=8000, default=None, required=True, when=MAGNETS,
        relative_to="sheet.current_continuous",
        help=Help("Current allowed for a short time.", "Usually two to six times the continuous current.",
                  "Above it magnets may be weakened for good."),
    ),
    Parameter(
        key="sheet.torque_continuous", label="Continuous torque", symbol="Mc", quantity="torque", unit="N·m",
        step="motor", minimum=1e-6, maximum=1e5, default=None, when=(("sheet.kind", ("rotary", "dc")),),
        improves="Checks torque constant and continuous current.",
        help=Help("Torque at the continuous current, at stall.", "Printed as stall or continuous torque.",
                  "Rated torque at rated speed is smaller; it is not this one."),
    ),
    Parameter(
        key="sheet.force_continuous", label="Continuous force", symbol="Fc", quantity="force", unit="N", step="motor",
        minimum=1e-3, maximum=1e6, default=None, when=STRAIGHT, improves="Checks force constant and current.",
        help=Help("Force at the continuous current.", "Take the value for your cooling.",
                  "With water cooling it is about twice the one in still air."),
    ),
    Parameter(
        key="sheet.holding_torque", label="Holding torque", symbol="Mh", quantity="torque", unit="N·m",
        convention="holding", step="motor", minimum=1e-5, maximum=1e3, default=None, when=STEPPER,
        improves="Checks the torque constant; stands in for it where none is printed.",
        help=Help("Torque at standstill with the rated current.", "State whether one or both phases carry it.",
                  "With both phases on it is 1.41 times that of one."),
    ),
    Parameter(
        key="sheet.torque_peak", label="Peak torque", symbol="Mp", quantity="torque", unit="N·m", step="motor",
        minimum=1e-6, maximum=1e6, default=None, when=(("sheet.kind", ("rotary", "dc")),),
        relative_to="sheet.torque_continuous", improves="Shows saturation against the torque constant.",
        help=Help("Torque at the peak current.", "Printed as peak or maximum torque.",
                  "Often less than Kt times peak current, since the iron saturates."),
    ),
    Parameter(
        key="sheet.force_peak", label="Peak force", symbol="Fp", quantity="force", unit="N", step="motor",
        minimum=1e-3, maximum=1e7, default=None, when=STRAIGHT, relative_to="sheet.force_continuous",
        improves="Shows saturation against the force constant.",
        help=Help("Force at the peak current.", "Printed as peak or maximum force.", "Holds for a second or so only."),
    ),
    Parameter(
        key="sheet.inertia", label="Rotor inertia", symbol="Jm", quantity="inertia", unit="kg·cm²", step="motor",
        minimum=1e-10, maximum=100, default=None, required=True, when=TURNING,
        help=Help("Inertia of the rotor.", "Add the brake's if it has one.", "kg·cm² against kg·m² is 10 000."),
    ),
    Parameter(
        key="sheet.mass_moving", label="Mass of the moving part", symbol="m0", quantity="mass", unit="kg",
        step="motor", minimum=1e-4, maximum=1e4, default=None, required=True, when=STRAIGHT,
        help=Help("What of the motor itself moves: coil or magnets.", "Without the carriage; that is load.",
                  "The magnet track's mass per metre is not it."),
    ),
    Parameter(
        key="sheet.speed_max", label="Maximum speed", symbol="nmax", quantity="speed", unit="rpm", step="motor",
        minimum=0.1, maximum=20000, default=None, required=True, when=TURNING,
        help=Help("Highest speed the motor stands.", "Mechanical limit of the sheet, not the rated speed.",
                  "The bus voltage may end the speed earlier; the map shows it."),
    ),
    Parameter(
        key="sheet.velocity_max", label="Maximum velocity", symbol="vmax", quantity="linear_speed", unit="m/s",
        step="motor", minimum=1e-3, maximum=100, default=None, required=True, when=STRAIGHT,
        help=Help("Highest velocity the motor or its guide stands.", "The smaller of the two.",
                  "At peak force the bus voltage ends it earlier; the map shows it."),
    ),
    Parameter(
        key="sheet.power_rated", label="Rated power", symbol="PN", quantity="power", unit="kW", step="motor",
        minimum=0.1, maximum=1e6, default=None, when=(("sheet.kind", ("rotary", "dc", "induction")),),
        improves="Checks rated torque and rated speed.",
        help=Help("Power at the shaft, at rated speed.", "From the plate.", "Not the electrical input."),
    ),
    Parameter(
        key="sheet.torque_rated", label="Rated torque", symbol="MN", quantity="torque", unit="N·m", step="motor",
        minimum=1e-6, maximum=1e6, default=None, when=(("sheet.kind", ("rotary", "dc", "induction")),),
        improves="Checks rated power.",
        help=Help("Torque at rated speed, for ever.", "From the sheet.", "Smaller than the stall torque."),
    ),
    Parameter(
        key="sheet.speed_rated", label="Rated speed", symbol="nN", quantity="speed", unit="rpm", step="motor",
        minimum=0.1, maximum=20000, default=None, when=(("sheet.kind", ("rotary", "dc", "induction")),),
        improves="Checks rated power, frequency and the number of poles.",
        help=Help("Speed at rated power.", "From the plate; of an induction motor just below the synchronous one.",
                  "The synchronous speed typed here leaves no slip, and no torque."),
    ),
    Parameter(
        key="sheet.frequency_rated", label="Rated frequency", symbol="fN", quantity="frequency", unit="Hz",
        step="motor", minimum=0.1, maximum=5000, default=None,
        when=(("sheet.kind", ("rotary", "linear", "induction")),),
        improves="Electrical turns per second at rated (linear: maximum) speed: checks poles or pitch.",
        help=Help("Electrical frequency at rated speed.", "From the plate or the sheet.",
                  "It is pole pairs, not poles, times turns per second."),
    ),
    Parameter(
        key="sheet.voltage_rated", label="Rated voltage", symbol="UN", quantity="voltage", unit="V", step="motor",
        minimum=1, maximum=2000, default=None, when=(("sheet.kind", ("rotary", "dc", "induction")),),
        improves="Checks back-EMF and rated speed.",
        help=Help("Line to line rms at rated speed and load; of a dc motor the dc voltage.", "From the plate.",
                  "Star and delta have two values on an induction motor's plate; take the one of your connection."),
    ),
    Parameter(
        key="sheet.current_rated", label="Rated current", symbol="IN", quantity="current", unit="A",
        convention="sine", step="motor", minimum=0.01, maximum=5000, default=None, required=True, when=INDUCTION,
        help=Help("Line current at rated load.", "From the plate, for your connection.",
                  "The delta value is 1.73 times that of star."),
    ),
    Parameter(
        key="sheet.power_factor", label="Power factor", symbol="cos φ", quantity="plain", step="motor", minimum=0.3,
        maximum=0.99, default=None, required=True, when=INDUCTION,
        help=Help("Active over apparent power at rated load.", "From the plate; splits flux from torque current.",
                  "The efficiency is another number near it."),
    ),
    Parameter(
        key="sheet.breakdown_ratio", label="Breakdown over rated torque", symbol="Mk/MN", quantity="plain",
        step="motor", minimum=1.2, maximum=6, default=2.5, when=INDUCTION,
        improves="The leakage follows from it, and with it the magnetising current.",
        help=Help("Largest torque the motor can give, over the rated.", "From the catalogue; 2.5 is common.",
                  "The starting torque is another row."),
    ),
    Parameter(
        key="sheet.motor_constant", label="Motor constant", symbol="Km", quantity="motor_constant", unit="N·m/√W",
        step="motor", minimum=1e-6, maximum=100, default=None, when=TORQUE_BY_CURRENT,
        improves="Checks torque constant against resistance.",
        help=Help("Torque per root of winding loss.", "Printed by makers of direct drives.",
                  "It does not depend on the winding: a good check."),
    ),
    Parameter(
        key="sheet.motor_constant_linear", label="Motor constant", symbol="Km", quantity="motor_constant_linear",
        unit="N/√W", step="motor", minimum=1e-4, maximum=1e4, default=None, when=STRAIGHT,
        improves="Checks force constant against resistance.",
        help=Help("Force per root of winding loss.", "Printed by most makers of linear motors.",
                  "It does not depend on the winding: a good check."),
    ),
    Parameter(
        key="sheet.time_constant_electrical", label="Electrical time constant", symbol="Te", quantity="time",
        unit="ms", step="motor", minimum=1e-6, maximum=1, default=None, when=MAGNETS,
        improves="Checks inductance against resistance.",
        help=Help("Inductance over resistance.", "From the sheet.", "It is the same per phase and line to line."),
    ),
    Parameter(
        key="sheet.time_constant_mechanical", label="Mechanical time constant", symbol="Tm", quantity="time",
        unit="ms", step="motor", minimum=1e-6, maximum=10, default=None, when=TORQUE_BY_CURRENT,
        improves="Checks inertia, resistance and torque constant.",
        help=Help(
            "Run-up time of the bare rotor on a stiff voltage.", "From the sheet.", "Nothing of the load is in it."
        ),
    ),
    Parameter(
        key="sheet.no_load_speed", label="No-load speed", symbol="n0", quantity="speed", unit="rpm", step="motor",
        minimum=0.1, maximum=1e5, default=None, when=(("sheet.kind", ("dc",)),),
        improves="With the rated voltage, checks the back-EMF constant.",
        help=Help("Speed without load at the rated voltage.", "From the sheet.", "Far above the speed at rated load."),
    ),
    Parameter(
        key="sheet.thermal_resistance", label="Thermal resistance", symbol="Rth", quantity="thermal_resistance",
        unit="K/W", step="motor", minimum=1e-4, maximum=500, default=None,
        improves="With the winding's limit, checks resistance and continuous current.",
        help=Help("Winding to surroundings.", "Add winding-housing and housing-ambient if both are printed.",
                  "Winding to housing alone is far smaller."),
    ),
    Parameter(
        key="sheet.thermal_time", label="Thermal time constant", symbol="Tth", quantity="time", unit="min",
        step="motor", minimum=1, maximum=36000, default=None,
        improves="Time at peak current before the winding is hot.",
        help=Help("Time to 63 % of the final temperature rise.", "Of the winding for peaks, of the motor for hours.",
                  "Minutes and seconds are easily taken for each other."),
    ),
    Parameter(
        key="sheet.peak_time", label="Time at peak current", symbol="tp", quantity="time", unit="s", step="motor",
        minimum=1e-3, maximum=600, default=1.0, when=MAGNETS, improves="The I²t limit.",
        help=Help("How long the peak current may flow.", "From the sheet; one second if nothing is printed.",
                  "From a cold winding; a hot one stands less."),
    ),
    Parameter(
        key="sheet.temperature_max", label="Winding limit", symbol="ϑmax", quantity="temperature", unit="°C",
        step="motor", minimum=40, maximum=260, default=None, improves="Checks losses against the thermal resistance.",
        help=Help("Highest temperature of the winding.", "Class F is 155 °C, class H 180 °C.",
                  "The magnets may stand less."),
    ),
    Parameter(
        key="sheet.temperature_winding", label="Winding temperature", symbol="ϑ", quantity="temperature", unit="°C",
        step="motor", minimum=-40, maximum=260, default=20.0, when=MAGNETS,
        improves="Corrects resistance and constants to the working temperature.",
        help=Help("Temperature for which values are understood.", "20 °C as printed; 80 to 120 °C at work.",
                  "Copper gains 0.393 % per kelvin: 31 % at 100 °C."),
    ),
    Parameter(
        key="sheet.resistance_at", label="Resistance printed at", symbol="ϑR", quantity="temperature", unit="°C",
        step="motor", minimum=-40, maximum=260, default=20.0, when=MAGNETS,
        improves="A resistance printed warm counts as what it is cold.",
        help=Help("Winding temperature for which the sheet prints the resistance.",
                  "20 or 25 °C as a rule; some sheets print it at 100 °C or at the winding's limit.",
                  "A warm resistance taken for cold is up to half too large; time constants then do not fit."),
    ),
    Parameter(
        key="sheet.constants_at", label="Constants printed at", symbol="ϑK", quantity="temperature", unit="°C",
        step="motor", minimum=-40, maximum=260, default=20.0, when=MAGNETS,
        improves="Constants printed warm count as what they are cold.",
        help=Help("Magnet temperature for which the sheet prints torque and back-EMF constants.",
                  "20 or 25 °C as a rule; some sheets print them at rated operation.",
                  "Magnets lose a tenth of their flux over 100 K."),
    ),
    Parameter(
        key="sheet.magnet_coefficient", label="Temperature coefficient of the magnets", symbol="αB",
        quantity="temperature_coefficient", unit="%/K", step="motor", minimum=-0.01, maximum=0, default=-0.0011,
        when=MAGNETS, improves="How the constants fall with temperature.",
        help=Help("Change of flux per kelvin.", "NdFeB −0.11 %/K, SmCo −0.04, ferrite −0.2.", "It is negative."),
    ),
    Parameter(
        key="sheet.mounting_share", label="Mounting, share of continuous current", symbol="kM", quantity="ratio",
        unit="%", step="motor", minimum=0.2, maximum=1.5, default=1.0,
        improves="Derates the continuous current where the heat sink is missing.",
        help=Help("Share of the printed continuous current that your mounting allows.",
                  "100 % on the sheet's plate; 60 to 80 % without a heat sink is common.",
                  "A sheet's rating assumes a large aluminium plate."),
    ),
    Parameter(
        key="sheet.sensor", label="Temperature sensor", symbol="", quantity="count", step="motor", minimum=0,
        maximum=1, default="none",
        choices=(("none", "none"), ("switch", "switch"), ("ptc", "PTC"), ("kty", "KTY"), ("pt1000", "Pt1000")),
        improves="What trips before the winding is too hot.",
        help=Help(
            "What the winding carries.", "From the sheet.", "A switch tells nothing until it is too late to cool."
        ),
    ),
    Parameter(
        key="cable.length", label="Motor cable", symbol="lc", quantity="cable_length", unit="m", step="motor",
        minimum=0, maximum=500, default=0.0, improves="Adds resistance to each phase.",
        help=Help("Length of the motor cable, one way.", "0 leaves it out.",
                  "Each phase has its own wire: once, not twice."),
    ),
    Parameter(
        key="cable.section", label="Cross-section of a wire", symbol="qc", quantity="area", unit="mm²", step="motor",
        minimum=1e-8, maximum=1e-3, default=1.5e-6, improves="Adds resistance to each phase.",
        help=Help("Copper cross-section per phase.", "From the cable's print.", "The diameter is another number."),
    ),
    Parameter(
        key="motor.resistance", label="Phase resistance", symbol="R", quantity="resistance", unit="ohm",
        storage="drive", step="motor", minimum=1e-5, maximum=2000, default=1.0,
        help=Help("Per-phase resistance the drive computes with.", "Comes from the sheet, or identified.",
                  "It rises 0.39 % per kelvin."),
    ),
    Parameter(
        key="motor.inductance", label="Phase inductance", symbol="L", quantity="inductance", unit="mH",
        storage="drive", step="motor", minimum=1e-8, maximum=10, default=1e-3,
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
