#!/usr/bin/env bash
# Put Calor into the desktop's menu for this user: the .desktop file, its metadata, the icons and the manual page.
set -euo pipefail
cd "$(dirname "$0")/.."
data=${XDG_DATA_HOME:-$HOME/.local/share}
mkdir -p "$data/applications" "$data/metainfo" "$data/man/man1" "$data/icons/hicolor/scalable/apps"
for icon in src/calor/desk/icons/calor-*.png; do
    size=${icon##*-}
    size=${size%.png}
    mkdir -p "$data/icons/hicolor/${size}x${size}/apps"
    cp "$icon" "$data/icons/hicolor/${size}x${size}/apps/calor.png"
done
cp share/calor.metainfo.xml "$data/metainfo/calor.metainfo.xml"
cp share/calor.1 "$data/man/man1/calor.1"
cp src/calor/desk/calor.svg "$data/icons/hicolor/scalable/apps/calor.svg"
sed "s|^Exec=calor|Exec=$PWD/.venv/bin/calor|" share/calor.desktop > "$data/applications/calor.desktop"
mkdir -p "$data/bash-completion/completions"
.venv/bin/calor completion bash > "$data/bash-completion/completions/calor"
echo "installed $data/applications/calor.desktop"
