"""Whether logging out ends a person's processes on this system, as its login manager is set up (logind.conf(5))."""

from pathlib import Path

FILES = ("/etc/systemd/logind.conf", "/run/systemd/logind.conf", "/usr/lib/systemd/logind.conf")
SETTING = "KillUserProcesses"


def logging_out_ends_processes(root: Path = Path("/")) -> bool:
    """Return whether it does. Drop-in files count over the main file, and the last one that says something counts."""
    found = False
    mains = [root / name.lstrip("/") for name in FILES]
    main = next((file for file in mains if file.is_file()), None)
    drops = {file.name: file for folder in reversed(mains) for file in folder.with_name("logind.conf.d").glob("*.conf")}
    for file in ([main] if main is not None else []) + [drops[name] for name in sorted(drops)]:
        try:
            lines = file.read_text(encoding="utf-8").splitlines()
        except (OSError, UnicodeDecodeError):
            continue
        for line in lines:
            name, _, value = line.partition("=")
            if name.strip() == SETTING:
                found = value.strip().lower() in ("yes", "true", "on", "1")
    return found
