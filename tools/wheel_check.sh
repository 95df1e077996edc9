#!/usr/bin/env bash
# Build the wheel, install it into an empty environment, and start both commands there, each on a book of its own.
set -eu
cd "$(dirname "$0")/.."
root=$PWD
room=$(mktemp -d)
window=
tidy() {
  if [ -n "$window" ]; then kill "$window" 2> /dev/null || true; fi
  rm -rf "$room"
}
trap tidy EXIT

echo "Building the wheel ..."
.venv/bin/python -m pip wheel --quiet --disable-pip-version-check --no-deps --no-build-isolation --wheel-dir "$room" .

# What is locked is what is tried: the pinned versions, without their hashes, which a wheel from a folder has none of.
sed -n 's/^\([A-Za-z0-9_.-]*==[^ ;\\]*\).*/\1/p' requirements/run.lock > "$room/constraints.txt"
echo "Installing it into an empty environment ..."
python3.11 -m venv "$room/venv"
"$room/venv/bin/python" -m pip install --quiet --disable-pip-version-check --constraint "$room/constraints.txt" "$room"/*.whl

cd "$room"  # nothing of the tree is in reach
export HOME=$room XDG_CONFIG_HOME=$room/config XDG_DATA_HOME=$room/data XDG_CACHE_HOME=$room/cache
unset PYTHONPATH
echo "Starting niente-cli ..."
venv/bin/niente-cli --version
venv/bin/niente-cli rigs
venv/bin/niente-cli plan baseline --rig larkspur > plan.json
venv/bin/niente-cli run plan.json --rig larkspur --book terminal.niente
venv/bin/niente-cli status terminal.niente

echo "Starting niente ..."
QT_QPA_PLATFORM=offscreen venv/bin/niente --rig larkspur window.niente > window.txt 2>&1 &
window=$!
waited=0
until [ -s window.niente ] && [ "$waited" -ge 10 ]; do
  kill -0 "$window" 2> /dev/null || { cat window.txt >&2; echo "niente ended before it showed its book." >&2; exit 1; }
  waited=$((waited + 1))
  [ "$waited" -le 240 ] || { cat window.txt >&2; echo "niente did not make its book in 240 s." >&2; exit 1; }
  sleep 1
done
! grep --quiet Traceback window.txt || { cat window.txt >&2; exit 1; }
kill "$window"
wait "$window" 2> /dev/null || true
window=
echo "The wheel installs from $root and both commands start."
