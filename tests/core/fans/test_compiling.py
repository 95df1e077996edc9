"""What the set-up runs once, so that the first curve that is tried finds its day compiled."""

import runpy

import pytest


def test_the_rehearsal_is_compiled_ahead(capsys: pytest.CaptureFixture[str]) -> None:
    runpy.run_module("niente.core.fans", run_name="__main__")
    assert "compiled" in capsys.readouterr().out
