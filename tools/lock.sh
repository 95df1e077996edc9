#!/usr/bin/env bash
# Pin requirements/*.in into *.lock: exact versions with hashes, and no address of where they come from.
set -eu
cd "$(dirname "$0")/../requirements"
tool=$(mktemp -d); trap 'rm -rf "$tool"' EXIT
python3 -m venv "$tool" && "$tool/bin/pip" -q install pip-tools
for name in run dev; do
  "$tool/bin/pip-compile" -q --generate-hashes --no-emit-index-url --no-emit-trusted-host --no-emit-find-links \
    --no-header --strip-extras --output-file "$name.lock" "$name.in"
done
