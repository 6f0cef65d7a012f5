"""The fan curve as a picture on its bench: what is asked as it warms, and as it cools."""

from __future__ import annotations

import numpy as np

from calor.desk import theme as look
from calor.desk.chart import Chart
from calor.law.fan_curve import FanCurve, outline
from calor.units import TemperatureUnit, celsius_to

HEIGHT_PX = 150


class FanPicture(Chart):
    """Output over temperature, with the hysteresis at the start."""

    def __init__(self) -> None:
        super().__init__("", most_ticks=(5, 4))
        self.setFixedHeight(HEIGHT_PX)
        self._colours = look.LIGHT

    def set_theme(self, t: look.Theme) -> None:
        super().set_theme(t)
        self._colours = t

    def show_law(self, law: FanCurve, unit: TemperatureUnit) -> None:
        """Draw a curve."""
        t = self._colours
        places, warming, cooling = outline(law)
        x = np.asarray(celsius_to(unit, np.array(places)))
        up, down = np.array(warming) * 100.0, np.array(cooling) * 100.0
        self.set_title(f"% over {unit}; grey: until it goes off again")
        self.draw("cooling", x, down, t.pinned, 1.4)
        self.draw("warming", x, up, t.cool if law.action == "cool" else t.heat)
        self.show_range((float(x[0]), float(x[-1])), (-4.0, 108.0))

        def read(value: float) -> str:
            still, running = (float(np.interp(value, x, asked)) for asked in (up, down))
            return f"{value:.1f} {unit}: {still:.0f} %, running {running:.0f} %"

        self.read_with(read)
