"""``python -m niente.core.fans``: compile the rehearsed day, so that its cache is there when the first curve is tried."""

import numpy as np

from niente.core.fans.day import DayOfLoad
from niente.core.fans.loop import FanTables, HeatTables, SensorTables
from niente.core.fans.machine import MachineAtPoint, PowerDrawn
from niente.core.fans.rehearsal import rehearse
from niente.core.model.fan_curve import FanCurve
from niente.core.model.setting import Setting

POWER_W, RPM = np.linspace(0.0, 100.0, 3), np.linspace(0.0, 1000.0, 3)
NOTHING = np.zeros((2, 3, 3, 4))
HEAT = HeatTables(POWER_W, RPM[None, :], NOTHING, NOTHING, np.full((3, 4), 0.9), 0)
FANS = FanTables(np.linspace(0.0, 1000.0, 101)[None, :], np.zeros(1), np.ones((1, 3)), np.ones(1), np.ones(3), 1.0)
DRAWN = PowerDrawn(5.0, np.full(2, 50.0), np.zeros(2), np.full(2, 60.0))
SENSORS = SensorTables(np.ones((1, 4)), np.zeros(1), np.zeros((2, 1)))
MACHINE = MachineAtPoint(Setting(), ("case",), ("any", "any"), HEAT, FANS, SENSORS, ("coolant",), DRAWN, 90.0, 90.0, 25.0)
"""A machine of one group that stays as warm as its room."""

rehearse(
    MACHINE,
    {"case": FanCurve("core_temperature_c", ((40.0, 20.0), (80.0, 100.0)))},
    DayOfLoad("", np.zeros(60, int), np.zeros(60)),
    20.0,
)
print("The rehearsal is compiled.")
