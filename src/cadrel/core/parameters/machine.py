"""Mechanics, power and limits."""

from cadrel.core.parameters.parameter import Help, Parameter

MECHANICS = (
    Parameter(
        key="mechanics.kind", label="Mechanism", symbol="", quantity="count", step="mechanics", minimum=0, maximum=1,
        default="rotary", required=True,
        choices=(("rotary", "rotary, direct or geared"), ("rack", "rack or belt"), ("screw", "screw")),
        help=Help(
            "What turns the motor's turns into the load's motion.", "Name the last element; a gear goes in front.",
            "A belt is given by its feed per turn, not by the pulley's diameter."
        ),
    ),
    Parameter(
        key="mechanics.ratio", label="Gear ratio, motor turns per output turn", symbol="i", quantity="ratio",
        step="mechanics", minimum=1e-3, maximum=1e4, default=1.0, required=True,
        help=Help("How often the motor turns while the output turns once.", "30:1 reducing is 30.",
                  "Entered upside down, the load seems 900 times heavier."),
    ),
    Parameter(
        key="mechanics.feed", label="Feed per output turn", symbol="h", quantity="length", unit="mm",
        step="mechanics", minimum=1e-5, maximum=10, default=0.01,
        help=Help(
            "Travel of the load per turn of pinion, pulley or screw.", "Rack: teeth times pitch. Screw: its lead.",
            "The pinion's diameter is not the feed: times π."
        ),
    ),
    Parameter(
        key="mechanics.load_mass", label="Moving mass", symbol="m", quantity="mass", unit="kg", step="mechanics",
        minimum=0, maximum=1e5, default=0.0,
        help=Help("What moves in a straight line with the load.", "Carriage, tool and the heaviest workpiece.",
                  "Leave 0 if nobody knows; identification finds it."),
    ),
    Parameter(
        key="mechanics.load_inertia", label="Load inertia at the output", symbol="JL", quantity="inertia",
        unit="kg·cm²", step="mechanics", minimum=0, maximum=1e4, default=0.0,
        help=Help("What turns with the output.", "Pinion, pulley, screw, table.",
                  "At the output, not reflected to the motor: the tool divides by the ratio squared."),
    ),
    Parameter(
        key="load.inertia", label="Total inertia at the motor", symbol="J", quantity="inertia", unit="kg·cm²",
        storage="drive", step="load", minimum=1e-9, maximum=100, default=1e-4,
        help=Help(
            "Motor and reflected load together; the acceleration feedforward uses it.", "Take the identified value.",
            "The sheet's rotor alone leaves the load out."
        ),
    ),
)

POWER = (
    Parameter(
        key="power.supply_kind", label="Supply", symbol="", quantity="count", step="power", minimum=0, maximum=1,
        default="ac", required=True, choices=(("ac", "ac mains, rectified"), ("dc", "dc")),
        help=Help("What feeds the drive's bus.", "Single or three phase: the bus is 1.41 times the line voltage.",
                  "A 400 V line on a 230 V drive destroys it."),
    ),
    Parameter(
        key="power.supply_voltage", label="Supply voltage", symbol="U", quantity="voltage", unit="V", step="power",
        minimum=10, maximum=700, default=None, required=True,
        help=Help("Line to line rms for ac, the bus itself for dc.", "From the cabinet's plate.",
                  "1.41 times it must stay under the drive's highest bus voltage."),
    ),
    Parameter(
        key="power.brake_resistor", label="Brake resistor", symbol="Rb", quantity="resistance", unit="ohm",
        step="power", minimum=0, maximum=1e4, default=0.0,
        help=Help("Burns the energy of braking. 0: none fitted.", "At least the drive's smallest allowed value.",
                  "Without one a heavy load trips the drive while it stops."),
    ),
    Parameter(
        key="power.undervoltage", label="Undervoltage threshold", symbol="Umin", quantity="voltage", unit="V",
        storage="drive", step="power", minimum=5, maximum=1000, default=200.0,
        help=Help("Bus voltage below which the drive does not enable.", "About 70 % of the nominal bus.",
                  "Left at the 325 V default on a 48 V bus, nothing ever enables."),
    ),
)

LIMITS = (
    Parameter(
        key="limit.velocity", label="Velocity limit", symbol="vmax", quantity="axis_velocity", unit="mm/s",
        storage="drive", step="limits", minimum=1e-4, maximum=1e5, default=10.0, required=True, cia402="607Fh",
        help=Help("Nothing is commanded faster; 20 % above it the drive stops the axis.",
                  "10 to 20 % above the fastest move.", "Too close to the move, overshoot trips it."),
    ),
    Parameter(
        key="limit.acceleration", label="Acceleration", symbol="amax", quantity="axis_acceleration", unit="m/s²",
        storage="drive", step="limits", minimum=1e-4, maximum=1e7, default=100.0, required=True, cia402="6083h",
        help=Help("Ramps of moves and of the jog.", "What the torque allows with a third in reserve.",
                  "Above the motor's torque the current saturates and the error grows."),
    ),
    Parameter(
        key="limit.quick_stop", label="Quick-stop deceleration", symbol="aqs", quantity="axis_acceleration",
        unit="m/s²", storage="drive", step="limits", minimum=1e-4, maximum=1e7, default=500.0, required=True,
        cia402="6085h",
        help=Help("Ramp of STOP and of a lost connection.", "As steep as mechanics and bus stand.",
                  "Gentler than the normal ramp it is no quick stop."),
    ),
    Parameter(
        key="limit.jerk", label="Jerk", symbol="jmax", quantity="axis_jerk", unit="m/s³", storage="drive",
        step="limits", minimum=1e-3, maximum=1e10, default=1e4, required=True, cia402="60A4h",
        help=Help("How fast the acceleration may change.", "High for stiff axes; low where something swings.",
                  "Very low values lengthen every move."),
    ),
    Parameter(
        key="limit.current", label="Current limit (peak of sine)", symbol="Imax", quantity="current", unit="A",
        storage="drive", step="limits", minimum=0.01, maximum=5000, default=1.0, cia402="6073h",
        help=Help("Torque-making current is held below this.", "Smaller of motor peak and drive peak.",
                  "An rms value typed here gives away 30 % of the torque."),
    ),
    Parameter(
        key="limit.travel_min", label="Travel, lower end", symbol="x−", quantity="axis_position", unit="mm",
        storage="drive", step="limits", minimum=-1e7, maximum=1e7, default=-1e6, required=True, cia402="607Dh",
        help=Help("No move goes below; the drive stops the axis there.", "A little inside the end stop.",
                  "Counted from where the drive was powered up until the axis is homed."),
    ),
    Parameter(
        key="limit.travel_max", label="Travel, upper end", symbol="x+", quantity="axis_position", unit="mm",
        storage="drive", step="limits", minimum=-1e7, maximum=1e7, default=1e6, required=True, cia402="607Dh",
        help=Help("No move goes above; the drive stops the axis there.", "A little inside the end stop.",
                  "Counted from where the drive was powered up until the axis is homed."),
    ),
    Parameter(
        key="limit.following_error", label="Following-error window", symbol="ex", quantity="axis_position", unit="mm",
        storage="drive", step="limits", minimum=1e-6, maximum=1e6, default=10.0, required=True, cia402="6065h",
        help=Help("Further from its command than this, the axis is stopped.", "Five times what a good move shows.",
                  "Too tight during tuning, everything trips."),
    ),
)
