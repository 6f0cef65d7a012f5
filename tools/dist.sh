#!/usr/bin/env bash
# Make sdist and wheel in dist/, the loop compiled into the wheel, in an environment that holds just what that takes.
set -euo pipefail
cd "$(dirname "$0")/.."
place=.venv-dist wanted=$(cksum < requirements-dist.lock)
if ! [ "$(cat $place/.ready 2>/dev/null)" = "$wanted" ]; then
    rm -rf $place
    "${PYTHON:-python3}" -m venv $place
    $place/bin/python -m pip install -qq --disable-pip-version-check --require-hashes -r requirements-dist.lock
    echo "$wanted" > $place/.ready
fi
rm -rf dist
$place/bin/python -m build --no-isolation --outdir dist
