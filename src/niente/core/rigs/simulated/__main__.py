"""``python -m niente.core.rigs.simulated``: compile the plant, so that its cache is there when a window starts."""

from niente.core.rigs.simulated.compiling import compile_plant

seen: set[str] = set()


def _print(text: str) -> None:
    if text not in seen:
        seen.add(text)
        print(text, flush=True)


compile_plant(_print)
print("The simulated machines are compiled.")
