"""How long the rig's hours take here: the clock of a simulated rig may go faster than the one on the wall."""

from PySide6.QtCore import QDateTime

from niente.core.model.quantities import NO_BREAK_SPACE, duration_text, number_text
from niente.desktop.services.translation import tr

SOON_S = 600.0


def here_text(seconds: float, pace: float | None) -> str:
    """Return how long so many seconds of the rig take at a pace, in words; empty where the rig's clock is the wall's.
    ``pace`` is how many times faster the rig's clock goes; ``None`` is as fast as it can."""
    if pace is None:
        return tr("as fast as it can here")
    if pace == 1.0:
        return ""
    here_s = seconds / pace
    minutes = here_s / 60.0
    words = f"{number_text(minutes, 1)}{NO_BREAK_SPACE}min" if 90.0 <= here_s < SOON_S else duration_text(here_s)
    return tr("{t} here").format(t=words)


def left_text(seconds: float, pace: float | None) -> str:
    """Return how long so many seconds of the rig take here, and at what time of the wall's clock they end if they begin now;
    empty where nothing is left."""
    if seconds <= 0:
        return ""
    here = here_text(seconds, pace)
    if pace is None:
        return here
    now = QDateTime.currentDateTime()
    then = now.addSecs(int(seconds / pace))
    days = now.daysTo(then)
    time = then.toString("HH:mm") if days == 0 else then.toString("ddd HH:mm") if days < 7 else then.toString("d MMM")
    return ", ".join(part for part in (here, tr("ends {time}").format(time=time)) if part)
