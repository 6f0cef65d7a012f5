#!/usr/bin/env bash
# Set Calor up in .venv: locked Python packages, the `calor` command, and the system libraries a window needs.
# System packages are installed where this runs as root on Debian or a relative; otherwise the line to type is shown.
set -euo pipefail
cd "$(dirname "$0")/.."
PYTHON=${PYTHON:-python3}

need=()
if command -v dpkg-query >/dev/null 2>&1; then
    for package in libxcb-cursor0 libxcb-icccm4 libxcb-keysyms1 libxcb-image0 libxcb-render-util0 libxcb-xkb1 \
        libxkbcommon-x11-0 libegl1 libgl1 libfontconfig1 libdbus-1-3 libglib2.0-0 xvfb; do
        state=$(dpkg-query -W -f '${Status}' "$package" 2>/dev/null || dpkg-query -W -f '${Status}' "${package}t64" 2>/dev/null || true)
        case "$state" in *"install ok installed"*) ;; *) need+=("$package") ;; esac
    done
    command -v cc >/dev/null 2>&1 || need+=(gcc libc6-dev)
    "$PYTHON" -c 'import venv, ensurepip' 2>/dev/null || need+=(python3-venv)
elif ! command -v cc >/dev/null 2>&1 || ! command -v Xvfb >/dev/null 2>&1; then
    echo "setup: this is no Debian: please install a C compiler, Xvfb and the xcb libraries of Qt 6 by your own package manager" >&2
fi
if [ ${#need[@]} -gt 0 ]; then
    if [ "$(id -u)" = 0 ]; then
        echo "setup: installing ${need[*]}"
        apt-get update -qq
        DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends "${need[@]}" >/dev/null
    else
        echo "setup: system packages are missing; please type:" >&2
        echo "    sudo apt-get install ${need[*]}" >&2
        case " ${need[*]} " in *" python3-venv "*) exit 1 ;; esac
    fi
fi

if ! "$PYTHON" -c 'import sys; sys.exit(sys.version_info < (3, 11))'; then
    echo "setup: Calor needs Python 3.11 or newer (found $("$PYTHON" --version 2>&1)); name one with make PYTHON=python3.11" >&2
    exit 1
fi
stamp=.venv/.calor-setup begun=.venv/.calor-begun
wanted=$(cat requirements.lock pyproject.toml | cksum)
if ! { [ -x .venv/bin/calor ] && [ -f "$stamp" ] && [ "$(cat "$stamp")" = "$wanted" ]; }; then
    echo "setup: preparing .venv (a few minutes the first time)"
    # a set-up that was broken off leaves packages half installed, on which the next one fails
    [ -f "$begun" ] && rm -rf .venv
    [ -x .venv/bin/python ] || "$PYTHON" -m venv .venv
    touch "$begun"
    .venv/bin/python -m pip install -qq --disable-pip-version-check --require-hashes -r requirements.lock
    .venv/bin/python -m pip install -qq --disable-pip-version-check --no-deps --no-build-isolation -e .
    # Python's own compiled files, so that the first start does not make them
    .venv/bin/python -m compileall -qq .venv/lib src/calor >/dev/null 2>&1 || true
    echo "$wanted" > "$stamp"
    rm -f "$begun"
    echo "setup: done; the command is .venv/bin/calor"
fi
# the loop, compiled by this machine's compiler: seconds where its sources have changed, else nothing
.venv/bin/python -m calor.compiled
