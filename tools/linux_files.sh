#!/usr/bin/env bash
# Validate what a Linux desktop reads: the desktop entry, the metainfo, the document type, and that their icons are there.
# Usage: tools/linux_files.sh check | install   (install: for this person, under XDG_DATA_HOME)
set -eu
cd "$(dirname "$0")/.."
id=org.niente.Niente
icons=src/niente/assets/icons
case ${1:-check} in
  check)
    for tool in desktop-file-validate appstreamcli update-mime-database xmllint; do
      command -v "$tool" >/dev/null || { echo "$tool is missing; install desktop-file-utils, appstream, shared-mime-info, libxml2-utils" >&2; exit 1; }
    done
    desktop-file-validate packaging/$id.desktop
    appstreamcli validate --no-net --no-color packaging/$id.metainfo.xml
    made=$(mktemp -d); trap 'rm -rf "$made"' EXIT
    mkdir -p "$made/mime/packages"
    cp packaging/$id.xml "$made/mime/packages/"
    update-mime-database "$made/mime" 2>/dev/null
    grep -q "application/x-niente-book:\*.niente" "$made/mime/globs"
    for icon in $id $id-book; do xmllint --noout "$icons/$icon.svg"; done
    grep -q "^Icon=$id$" packaging/$id.desktop
    echo "The desktop entry, the metainfo and the document type are valid."
    ;;
  install)
    data=${XDG_DATA_HOME:-$HOME/.local/share}
    install -Dm644 packaging/$id.desktop "$data/applications/$id.desktop"
    sed -i "s|^Exec=niente|Exec=$PWD/.venv/bin/niente|" "$data/applications/$id.desktop"
    install -Dm644 packaging/$id.metainfo.xml "$data/metainfo/$id.metainfo.xml"
    install -Dm644 packaging/$id.xml "$data/mime/packages/$id.xml"
    for icon in $id $id-book; do
      kind=apps; [ "$icon" = "$id" ] || kind=mimetypes
      install -Dm644 $icons/$icon.svg "$data/icons/hicolor/scalable/$kind/$icon.svg"
    done
    command -v update-mime-database >/dev/null && update-mime-database "$data/mime" || true
    command -v update-desktop-database >/dev/null && update-desktop-database "$data/applications" || true
    echo "Niente stands in your desktop's menu, and books open with it."
    ;;
  *) echo "usage: tools/linux_files.sh check | install" >&2; exit 2 ;;
esac
