"""Fan curves as files: what is written is read back, and what is no file of curves is refused."""

import pytest

from niente.core.exchange.curve_files import CurveFile, curves_json, curves_read
from niente.core.model.errors import DocumentError
from niente.core.model.fan_curve import Combined, FanCurve

CURVES = {
    "case": FanCurve("core_temperature_c", ((40.0, 20.0), (80.0, 100.0)), smoothing_s=12.0, floor_percent=20.0),
    "radiator": FanCurve(
        "coolant_temperature_c", ((30.0, 25.0), (40.0, 100.0)), off_below_c=28.0, off_below_w=20.0, on_again_c=30.0,
        avoided=((41.0, 46.0),), more_sources=("case_air_temperature_c",), combined=Combined.MEAN,
    ),
}  # fmt: skip


def test_json_is_read_back_as_it_was() -> None:
    written = curves_json(CurveFile(machine="Larkspur", variant="filter in", point="Night", curves=CURVES))
    assert b'"niente-curves/1"' in written
    assert curves_read(written) == CURVES


@pytest.mark.parametrize(
    ("data", "words"),
    [
        (b"", "no file of curves"),
        (b"[1, 2]", "no file of curves"),
        (b'{"format": "niente-curves/9", "machine": "", "variant": "", "point": "", "curves": {}}', "niente-curves/9"),
        (b'{"machine": "", "variant": "", "point": "", "curves": {"case": {"source": "x"}}}', "no file of curves"),
    ],
)
def test_what_is_no_file_of_curves_is_refused(data: bytes, words: str) -> None:
    with pytest.raises(DocumentError, match=words):
        curves_read(data)
