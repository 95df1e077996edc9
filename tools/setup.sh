#!/usr/bin/env bash
# Make .venv ready. Usage: tools/setup.sh run|dev
# Installs from the hashed lock, then the system packages that Qt (and, for dev, the virtual screen) needs:
# by itself where it is root or may use sudo without a password, otherwise it names them in one line.
set -eu
what=${1:-run}
cd "$(dirname "$0")/.."

python=${PYTHON:-}
for candidate in python3.11 python3; do
  [ -n "$python" ] && break
  command -v "$candidate" >/dev/null && "$candidate" -c 'import sys; sys.exit(sys.version_info[:2] != (3, 11))' && python=$candidate
done
[ -n "$python" ] || { echo "Niente needs Python 3.11. Nothing was changed. Install it, or name it: PYTHON=/path/to/python3.11 make demo" >&2; exit 1; }

if [ ! -x .venv/bin/python ]; then
  echo "Making .venv with $("$python" --version) ..."
  "$python" -m venv .venv
fi
locks="-r requirements/run.lock"
[ "$what" = dev ] && locks="$locks -r requirements/dev.lock"
echo "Installing the pinned packages ($what), once a lock; it takes a minute or two ..."
.venv/bin/python -m pip install --quiet --disable-pip-version-check --require-hashes $locks
.venv/bin/python -m pip install --quiet --disable-pip-version-check --no-deps --no-build-isolation --editable .

packages="libxcb-icccm4 libxcb-keysyms1 libxcb-image0 libxcb-render-util0 libxcb-xkb1 libxkbcommon-x11-0 libxcb-cursor0 libxcb-shape0 libegl1 libgl1 libdbus-1-3 libfontconfig1"
[ "$what" = dev ] && packages="$packages xvfb dbus desktop-file-utils appstream shared-mime-info libxml2-utils"
if command -v dpkg-query >/dev/null; then
  missing=""
  for package in $packages; do
    dpkg-query -W -f '${Status}' "$package" 2>/dev/null | grep -q "install ok installed" || missing="$missing $package"
  done
  if [ -n "$missing" ]; then
    sudo=""
    [ "$(id -u)" = 0 ] || sudo="sudo -n"
    if [ "$(id -u)" = 0 ] || sudo -n true 2>/dev/null; then
      echo "Installing system packages:$missing"
      $sudo env DEBIAN_FRONTEND=noninteractive sh -c "apt-get update -qq && apt-get install -y -qq --no-install-recommends $missing" >/dev/null \
        || echo "The system packages could not be installed. Please install:$missing" >&2
    else
      echo "Please install these system packages, the window needs them:$missing" >&2
    fi
  fi
else
  echo "Please see that your system has (Debian's names): $packages" >&2
fi

touch ".venv/$what.stamp"
[ "$what" = dev ] && touch .venv/run.stamp
exit 0
