#!/usr/bin/env bash
# Run a command in a real X window: on a virtual screen of its own, which ends with the command.
set -eu
export QT_QPA_PLATFORM=xcb
exec xvfb-run --auto-servernum --server-args="-screen 0 1280x800x24 -nolisten tcp" "$@"
