#!/usr/bin/env bash
# Put Calor into the desktop's menu for this user: the .desktop file and the icon.
set -euo pipefail
cd "$(dirname "$0")/.."
data=${XDG_DATA_HOME:-$HOME/.local/share}
mkdir -p "$data/applications" "$data/icons/hicolor/scalable/apps"
cp src/calor/desk/calor.svg "$data/icons/hicolor/scalable/apps/calor.svg"
sed "s|^Exec=calor|Exec=$PWD/.venv/bin/calor|" share/calor.desktop > "$data/applications/calor.desktop"
echo "installed $data/applications/calor.desktop"
