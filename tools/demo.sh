#!/usr/bin/env bash
# Start Niente on the demo book; say plainly what to do where there is no display.
set -eu
cd "$(dirname "$0")/.."
if [ -z "${DISPLAY:-}" ] && [ -z "${WAYLAND_DISPLAY:-}" ] && [ -z "${QT_QPA_PLATFORM:-}" ]; then
  cat >&2 <<'TEXT'
Niente is set up, but there is no display here (neither DISPLAY nor WAYLAND_DISPLAY is set), so no window can be shown.
To look at it anyway:  make shots                            writes a picture of each page to docs/screenshots
                       xvfb-run -s "-screen 0 1280x800x24" make demo      runs it on a virtual screen
Without a window:      .venv/bin/niente-cli --help
TEXT
  exit 3
fi
exec .venv/bin/niente --demo "$@"
