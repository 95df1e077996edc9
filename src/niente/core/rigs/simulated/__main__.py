"""``python -m niente.core.rigs.simulated``: compile the plant, so that its cache is there when a window starts."""

from niente.core.rigs.simulated.compiling import compile_plant


def _print(text: str) -> None:
    print(f"\r{text}", end="", flush=True)


compile_plant(_print)
print("\rThe simulated machines are compiled.".ljust(90))
