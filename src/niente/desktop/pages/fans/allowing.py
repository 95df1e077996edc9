"""Which actions of the Fans page have something to act on, and why the others have not."""

from niente.desktop.actions.registry import Actions
from niente.desktop.services.translation import tr


def allow(actions: Actions, *, known: bool, curves: bool, on_curve: bool, moved: bool, drawing: bool) -> None:
    """Let actions be done or say why not: whether a point is ``known``, has ``curves``, its group is ``on_curve`` or can be
    ``moved`` by one, and whether one is ``drawing``."""
    nothing = tr("No point shows on the Fans page.")
    actions.allow("fans.draw", known and not drawing, tr("Curves are being drawn.") if known else nothing)
    actions.allow("fans.stop_drawing", drawing, tr("Nothing is being drawn."))
    why = nothing if not known else tr("They are on a curve already.") if moved else tr("A pump keeps its duty.")
    actions.allow("fans.give", known and moved and not on_curve, why)
    for name in ("fans.round", "fans.export", "fans.run_here"):
        actions.allow(name, known and curves, tr("This point has no curves."))
    for name in ("fans.take_off", "fans.to_others", "fans.add_point", "fans.drop_point"):
        actions.allow(name, on_curve, tr("These fans are on no curve.") if known else nothing)
