"""What only the stand-in knows of the rotor's angle and the shaft's way; for evidence, never for a procedure."""

import math

import numpy as np

from cadrel.bench import DriveService
from cadrel.core.simulation import SimulatedDrive
from cadrel.link import LocalLink

TURN = 2 * math.pi


class TravelLink(LocalLink):
    """A link that notes how far and how fast the true shaft went."""

    def __init__(self, simulated: SimulatedDrive) -> None:
        service = DriveService({"a": simulated})
        super().__init__(service.answer, service.advance)
        self.simulated = simulated
        self.start = float(simulated.running.state.theta1)
        self.furthest = self.fastest = 0.0

    def wait(self, seconds: float) -> None:
        left = seconds
        while left > 0:
            super().wait(min(left, 0.005))
            left -= 0.005
            s = self.simulated.running.state
            self.furthest = max(self.furthest, abs(float(s.theta1) - self.start))
            self.fastest = max(self.fastest, abs(float(s.omega1)))


def true_error(drive: SimulatedDrive) -> float:
    """Return electrical angle believed less true, mean over what a noisy device shows. Looks into the bench. [°]"""
    p, c = drive.running.plant, drive.running.settings
    sign = p.phase_sign * c.phase_order
    shift = math.atan2(p.phase_sin, p.phase_cos)
    if drive.truth.has_halls and not c.has_index and not c.is_absolute:
        true = [drive.truth.hall_offset_deg + 60 * k + drive.truth.hall_errors_deg[k] for k in range(6)]
        edges = sign * (np.array(true) - math.degrees(shift))
        v = drive.memory.working
        found = [
            math.degrees(v["commutation.hall_offset"] + v[f"commutation.hall_edge_{k + 1}"]) + 60 * k for k in range(6)
        ]
        gaps = [(f - edges + 180) % 360 - 180 for f in found]
        return float(np.mean([g[np.argmin(np.abs(g))] for g in gaps]))
    seen: list[float] = []
    for _ in range(60):
        drive.advance(0.001)
        s = drive.running.state
        true_angle = sign * (p.pole_pairs * s.theta1 - shift)
        here = c.pole_pairs * c.direction * (s.counts + 0.5 - s.count_zero) * TURN / c.counts + s.angle_offset
        seen.append(math.remainder(here - true_angle, TURN))
    return math.degrees(float(np.mean(seen)))
