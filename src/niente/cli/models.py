"""What the models of a book come to, and what they say of a setting, for people and for scripts."""

from pathlib import Path
from typing import Any

import click
import msgspec

from niente.cli.books import read_book
from niente.cli.values import FILE, METRES, ROOM_C
from niente.core.analysis.models import Models, fit_models
from niente.core.analysis.point_prediction import USELESS_DB, Figure, PointPrediction, parameters, predict_point
from niente.core.analysis.prediction import stock_throughput
from niente.core.model.errors import DocumentError
from niente.core.model.json_files import indented_json
from niente.core.model.quantities import Quantity, quantity_of, value_typed
from niente.core.model.setting import Setting
from niente.core.science.air_density import density_ratio

FIT_FORMAT, PREDICT_FORMAT = "niente-fit/2", "niente-prediction/1"


@click.command(name="fit")
@click.argument("book", type=FILE)
@click.option("--json", "as_json", is_flag=True, help="Print it as JSON.")
def fit_command(book: Path, as_json: bool) -> None:
    """Print what the runs of a book come to: the models' parameters with their intervals, and what does not fit."""
    models = _models(book)
    prediction = fit_as_data(models)
    if as_json:
        click.echo(indented_json(prediction), nl=False)
        return
    heat = prediction["heat_path"]
    words = f"from {heat['runs']} runs and {heat['bounds']} that their temperature cap limited"
    click.echo(f"Heat path, {words}, scatter {heat['residual_sd_k']:.2f} K:")
    for name, one in heat["parameters"].items():
        click.echo(f"  {name:24} {one['value']:.4g}  ({one['low']:.4g} to {one['high']:.4g})")
    noise = prediction["noise"]
    click.echo(f"Noise: the room {_level_text(noise['background_dba'], noise['background_hw_db'])}")
    for name, one in noise["groups"].items():
        level = _level_text(one["level_dba"], one["level_hw_db"])
        law = f"{one['per_decade_db']:.0f} ± {one['per_decade_hw_db']:.0f} dB a decade"
        click.echo(f"  {name:16} at {one['full_rpm']:.0f} rpm {level}, {law}")
    for one in prediction["misfits"]:
        click.echo(f"Run {one['run_id']} does not fit: measured {one['measured_k']:.1f} K, modelled {one['modelled_k']:.1f} K")
    for one in prediction["left_out"]:
        click.echo(f"{one['words']}.")
    if heat["local"]:
        left_out = f"{100.0 * heat['left_out_share']:.1f} %"
        click.echo(f"The sum leaves out {left_out} of the rise or more: predictions follow the runs about a setting.")


@click.command(name="predict")
@click.argument("book", type=FILE)
@click.option("--set", "settings", multiple=True, metavar="CONTROL=VALUE", help="A control and its value; often.")
@click.option("--room-c", default=None, type=ROOM_C, metavar="°C", help="The room (default: as it was while measuring).")
@click.option("--load", default=None, help="The load (default: the heaviest).")
@click.option("--altitude-m", default=None, type=METRES, metavar="m", help="Where it will stand (default: where it was run).")
@click.option("--json", "as_json", is_flag=True, help="Print it as JSON.")
def predict_command(
    book: Path,
    settings: tuple[str, ...],
    room_c: float | None,
    load: str | None,
    altitude_m: float | None,
    as_json: bool,
) -> None:
    """Print what a setting would do: temperature, noise, clock, throughput, headroom, each with its interval."""
    models = _models(book)
    wanted = setting_of(settings)
    air = 1.0
    if altitude_m is not None:
        air = density_ratio(altitude_m) / density_ratio(models.card.room.get("altitude_m", 0.0))
    prediction = predict_point(models, wanted, load or models.heavy_load, models.room_c if room_c is None else room_c, air)
    if as_json:
        click.echo(indented_json(prediction_as_data(prediction)), nl=False)
        return
    for name, quantity, figure in _lines(prediction):
        value = "–" if figure.value is None else quantity.with_unit(figure.value, figure.half_width)
        value = f"at most {value}" if figure.at_most else value
        click.echo(f"{name:12} {value}" + (f"  ({figure.reason})" if figure.reason else ""))
    for words in prediction.outside:
        click.echo(f"Outside what was measured: {words}.")


def _models(book: Path) -> Models:
    return fit_models(read_book(book)[0])


def setting_of(texts: tuple[str, ...]) -> Setting:
    """Return the setting that texts like ``control=value`` name. Raises ``DocumentError`` for one that names none."""
    wanted = Setting()
    for text in texts:
        wanted = _put(wanted, text)
    return wanted


def _put(setting: Setting, text: str) -> Setting:
    """Return a setting with ``control=value`` put into it; ``case_duty_pct`` is another way to say ``fan_duty.case``."""
    name, _, value = text.partition("=")
    control = f"fan_duty.{name.removesuffix('_duty_pct')}" if name.endswith("_duty_pct") else name
    try:
        return setting.replaced(control.strip(), value_typed(value, quantity_of(control.strip()).unit))
    except (AttributeError, KeyError, ValueError) as error:
        raise DocumentError(
            f"--set {text}: {'there is no such control' if not isinstance(error, ValueError) else error}.",
            remedy="Write a control of the rig and its value, as in sustained_power_w=120 or fan_duty.case=38.",
        ) from None


def _lines(prediction: PointPrediction) -> list[tuple[str, Quantity, Figure]]:
    return [
        ("Hottest core", quantity_of("hottest_core_c"), prediction.core_c),
        ("Headroom", quantity_of("headroom_k"), prediction.headroom_k),
        ("In the room", quantity_of("noise_dba"), prediction.in_room_dba),
        ("At the ear", quantity_of("noise_dba"), prediction.at_listener_dba),
        ("Alone", quantity_of("noise_dba"), prediction.alone_dba),
        ("Throughput", quantity_of("throughput_percent"), prediction.throughput_percent),
        ("Clock", quantity_of("effective_clock_mhz"), prediction.clock_mhz),
        ("Package", quantity_of("package_power_w"), prediction.power_w),
    ]


def prediction_as_data(prediction: PointPrediction) -> dict[str, Any]:
    """Return a prediction as data; its keys stand in docs/reference and are kept."""
    return {"format": PREDICT_FORMAT, "inside": prediction.inside, **msgspec.to_builtins(prediction)}


def fit_as_data(models: Models) -> dict[str, Any]:
    """Return the fitted models as data; its keys stand in docs/reference and are kept."""
    noise, heat = models.noise, models.heat
    return {
        "format": FIT_FORMAT,
        "variant": models.card.variant,
        "heat_path": {
            "runs": heat.runs,
            "bounds": heat.bounds,
            "residual_sd_k": heat.residual_sd_k,
            "left_out_share": heat.share_sd,
            "full_rpm": dict(zip(heat.groups, heat.full_rpm, strict=True)),
            "parameters": parameters(models),
            "local": heat.follows_runs,
        },
        "noise": {
            "background_dba": noise.background_dba,
            "background_hw_db": noise.background_hw_db,
            "groups": {group: _group_as_data(models, group) for group in noise.groups},
        },
        "loads": {load: _load_as_data(models, load) for load in models.power.loads},
        "misfits": msgspec.to_builtins(heat.misfits),
        "left_out": [{**msgspec.to_builtins(one), "words": one.words} for one in models.left_out],
    }


def _group_as_data(models: Models, group: str) -> dict[str, float]:
    """Return what is known of a fan group's sound, each figure with its 95 % half width."""
    noise = models.noise
    (level, level_hw), (law, law_hw) = noise.level_of(group), noise.law_of(group)
    return {
        "level_dba": level,
        "level_hw_db": level_hw,
        "full_rpm": noise.full_rpm[noise.groups.index(group)],
        "per_decade_db": law,
        "per_decade_hw_db": law_hw,
    }


def _level_text(level_dba: float, half_width_db: float) -> str:
    """Return a level with its interval, or that these runs do not tell it."""
    if half_width_db > USELESS_DB:
        return "not told by these runs"
    return quantity_of("noise_dba").with_unit(level_dba, half_width_db)


def _load_as_data(models: Models, load: str) -> dict[str, Any]:
    """Return what is known of a load: the clocks it was run at, how its work follows the clock, and what stock does."""
    least, most = models.power.seen_mhz[load]
    work = models.power.work.get(load)
    stock, reason = stock_throughput(models, load, models.room_c)
    return {
        "least_clock_mhz": least,
        "highest_clock_mhz": most,
        "work_exponent": work.beta if work is not None else None,
        "watts_per_limit_watt": models.gains[load].value,
        "stock_throughput_per_s": stock,
        "stock_reason": reason,
    }
