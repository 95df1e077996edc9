"""``python -m niente.cli``."""

from niente.cli.main import main

main()
