"""Which actions of the Fans page have something to act on, and why the others have not."""

from niente.desktop.actions.registry import Actions
from niente.desktop.services.translation import tr


def allow(actions: Actions, known: bool, looks_on: bool, *, curves: bool, on_curve: bool, moved: bool, drawing: bool) -> None:
    """Let actions be done or say why not: whether a point is ``known``, the window only ``looks_on``, the point has ``curves``,
    its group is ``on_curve`` or can be ``moved`` by one, and whether one is ``drawing``."""
    nothing = tr("No point shows on the Fans page.")
    why = tr("This window is view-only.") if looks_on else nothing
    may = known and not looks_on
    actions.allow("fans.draw", may and not drawing, tr("Curves are being drawn.") if may else why)
    actions.allow("fans.stop_drawing", drawing, tr("Nothing is being drawn."))
    given = tr("They are on a curve already.") if moved else tr("A pump keeps its duty.")
    actions.allow("fans.give", may and moved and not on_curve, given if may else why)
    for name in ("fans.round", "fans.run_here"):
        actions.allow(name, may and curves, tr("This point has no curves.") if may else why)
    actions.allow("fans.export", known and curves, tr("This point has no curves.") if known else nothing)
    for name in ("fans.take_off", "fans.to_others", "fans.add_point", "fans.drop_point"):
        actions.allow(name, may and on_curve, tr("These fans are on no curve.") if may else why)
