#!/usr/bin/env bash
# The documents in docs/formats/ are enough for another reader: scripts/restore.py, which shares no code with the program, restores every recipe
# that the example's store has, and scripts/apply_update.py makes the same by every update file in it. usage: scripts/other-reader.sh DEMO_DIR
set -euo pipefail
demo=$(cd "${1:?usage: scripts/other-reader.sh DEMO_DIR}" && pwd)
cd "$(dirname "${BASH_SOURCE[0]}")/.."
venv=${XDG_CACHE_HOME:-$HOME/.cache}/kind-lantern-ci/reader
[ -x "$venv/bin/python" ] || python3 -m venv "$venv"
"$venv/bin/pip" install -q 'blake3==1.0.5' 'zstandard==0.23.0'
python=$venv/bin/python
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
store=$demo/.lantern/store
count=0
for recipe in "$store"/recipes/*; do
  "$python" scripts/restore.py "$store" "$(basename "$recipe")" "$work/$(basename "$recipe")" > "$work/said"
  count=$((count + 1))
done
updates=0
by_update=0
for to in "$store"/updates/*; do
  for from in "$to"/*; do
    # An empty one says that none is worth making.
    [ -s "$from" ] || continue
    rm -rf "$work/again"
    "$python" scripts/apply_update.py "$store" "$(basename "$to")" "$work/again" "$(basename "$from")" "$work/$(basename "$from")" > "$work/said"
    diff -r "$work/$(basename "$to")" "$work/again"
    by_update=$((by_update + $(grep -o '[0-9]* of them' "$work/said" | cut -d' ' -f1)))
    updates=$((updates + 1))
  done
done
((count > 5 && updates > 0 && by_update > 0)) || { echo "there was too little to read: $count, $updates, $by_update"; exit 1; }
echo "$count recipes restored; $updates update files applied, which made $by_update files"
