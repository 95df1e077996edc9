"""Fan curves for a point of a book: a rehearsed day, and curves that are drawn for it."""

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click
import msgspec

from niente.cli.books import project_in, read_book, save_project
from niente.cli.progress import ProgressPrinter
from niente.cli.values import FILE, ROOM_C, Number, curve_points
from niente.core.exchange.curve_files import curves_read
from niente.core.fans.day import STANDARD_DAYS
from niente.core.model.errors import DocumentError
from niente.core.model.fan_curve import FanCurve
from niente.core.model.json_files import indented_json
from niente.core.model.kept_point import kept_now, name_problem, point_named, with_point
from niente.core.model.limits import Limits
from niente.core.model.rig_card import RigCard

if TYPE_CHECKING:
    from niente.core.fans.curve_trials import CurveTrials
    from niente.core.fans.told import DayFigures

FORMAT = "niente-fans/1"
DAYS = {day.name: day.words for day in STANDARD_DAYS}


@click.command(name="fans")
@click.argument("book", type=FILE)
@click.option("--point", default="", help="A setting that the book keeps under this name (default: the pick).")
@click.option("--day", "days", multiple=True, type=click.Choice(list(DAYS)), help="A day to rehearse; often (default: show).")
@click.option("--room", "room_c", default=None, type=ROOM_C, help="The room in °C (default: as it was measured).")
@click.option("--curve", "curves", multiple=True, metavar="GROUP=C:%,C:%…", help="A group's curve over the core; often.")
@click.option("--curves", "file", default=None, type=FILE, help="Curves from a JSON file, as the Fans page writes them.")
@click.option("--smooth", "smoothing_s", default=0.0, type=Number(0.0, 600.0), help="Average the temperature over so many s.")
@click.option("--dead", default="", help="A group that stands, as if its fans had failed.")
@click.option("--draw", is_flag=True, help="Draw the curves that are quietest over these days and keep the headroom.")
@click.option("--keep", default="", metavar="NAME", help="Keep the setting with the drawn or given curves under this name.")
@click.option("--json", "as_json", is_flag=True, help="Print it as JSON.")
def fans_command(book: Path, as_json: bool, **given: Any) -> None:
    """Rehearse a day of the machine at a point with its fans at fixed duties, on the curves as found, and on curves that are
    given or drawn: how loud, how warm, how often a change is heard. Nothing is run.

    Example: niente-cli fans larkspur.niente --point Night --draw --day render"""
    from niente.core.fans.curve_trials import try_curves

    evidence, limits = read_book(book)
    setting = None
    if given["point"]:
        kept = point_named(project_in(book).points, given["point"])
        kept.insist_on(evidence.card.variant)
        setting, limits = kept.setting, kept.limits
    curves = curves_read(given["file"].read_bytes()) if given["file"] is not None else {}
    curves |= dict(_curve_typed(text, given["smoothing_s"]) for text in given["curves"])
    days, room_c = given["days"] or list(DAYS)[:1], given["room_c"]
    found = try_curves(
        book, evidence, limits, setting, days, room_c, curves, given["dead"], draw=given["draw"], progress=ProgressPrinter()
    )
    if given["keep"]:
        _keep(book, evidence.card, limits, found, given["keep"])
    if as_json:
        click.echo(indented_json({"format": FORMAT, **msgspec.to_builtins(found)}), nl=False)
    else:
        click.echo(_text(found))


def _keep(book: Path, card: RigCard, limits: Limits, found: "CurveTrials", name: str) -> None:
    """Keep the point with the last curves that were tried in the book's project."""
    curves = found.trials[-1].curves
    project = project_in(book)
    problem = name_problem(name, project.points) or ("" if curves else "Without --draw or --curve there are no curves to keep.")
    if problem:
        raise DocumentError(problem, remedy="Give another name, or curves.")
    if dangers := [f"{group}: {one}" for group, curve in curves.items() for one in curve.dangers()]:
        raise DocumentError(f"These curves are not kept: {'; '.join(dangers)}.", remedy="Give off_below_w as well, or neither.")
    setting = found.setting
    for group, curve in curves.items():
        setting = setting.on_curve(group, curve)
    point = kept_now(name, setting, limits, card.variant)
    save_project(book, msgspec.structs.replace(project, points=with_point(project.points, point)))
    click.echo(f"Kept as {name}.", err=True)


def _curve_typed(text: str, smoothing_s: float) -> tuple[str, FanCurve]:
    """Return the group and the curve that a text names. Raises ``DocumentError`` for one that names none."""
    group, _, points = text.partition("=")
    try:
        pairs = curve_points(points if group.strip() else "")
    except ValueError:
        raise DocumentError(
            f"--curve {text}: that is no curve.", remedy="Write a group and its points, as in case=40:25,65:50,85:100."
        ) from None
    return group.strip(), FanCurve("core_temperature_c", pairs, smoothing_s=smoothing_s)


def _text(found: "CurveTrials") -> str:
    """Return what was tried for a terminal: a table a day, the curves, what their loops do, and what is not known."""
    lines: list[str] = []
    for index, day in enumerate(found.days):
        lines += [f"{day.capitalize()} day ({DAYS[day]}), room {found.room_c:.1f} °C", *_table(found, index), ""]
    lines += [f"{found.days[0].capitalize()} day with something gone wrong: hottest core", *_worst(found), ""]
    for trial in found.trials:
        for group, curve in trial.curves.items():
            lines.append(f"{trial.name}, {group}: {curve.text}")
        lines += [f"  {loop.words}" for loop in trial.loops]
    warnings = [f"{trial.name}: {case.warning}" for trial in found.trials for case in trial.worst if case.warning]
    return "\n".join([*lines, *([""] if lines[-1] else []), *warnings, *found.doubts])


def _table(found: "CurveTrials", index: int) -> list[str]:
    columns = [_figures(trial.days[index]) for trial in found.trials]
    head = f"  {'':20}" + "".join(f"{trial.name:>18}" for trial in found.trials)
    return [head, *(f"  {name:20}" + "".join(f"{column[name]:>18}" for column in columns) for name in columns[0])]


def _worst(found: "CurveTrials") -> list[str]:
    """Return the worst cases as lines of a table; fixed duties have no sensor to lose."""
    names = dict.fromkeys(case.name for trial in found.trials for case in trial.worst)
    columns = [{case.name: f"{case.hottest_c:.1f} °C" for case in trial.worst} for trial in found.trials]
    return [f"  {name:20}" + "".join(f"{column.get(name, '–'):>18}" for column in columns) for name in names]


def _figures(day: "DayFigures") -> dict[str, str]:
    """Return what a day came to, as it is printed."""
    return {
        "Mean level, dBA": f"{day.mean_dba:.1f}",
        "Loudest, dBA": f"{day.loudest_dba:.1f}",
        "Hottest core, °C": f"{day.hottest_c:.1f}",
        "Changes heard": f"{day.ramps}",
        "Over the room, min": f"{day.over_room_s / 60:.0f}",
        "Throttled, s": f"{day.throttled_s}",
        "Swings": f"{day.hunts}",
    }
