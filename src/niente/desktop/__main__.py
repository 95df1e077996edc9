"""``python -m niente.desktop``."""

from niente.desktop.app.main import main

main()
