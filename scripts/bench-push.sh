#!/usr/bin/env bash
# How much of a line a push uses: a release, and the next one, are pushed through a line with 50 ms there and back and 100 Mbit/s.
# usage: scripts/bench-push.sh OLD_DIR NEW_DIR [WORK]   (LANTERN=PROGRAM measures that one)
set -euo pipefail
old=$(cd "$1" && pwd) new=$(cd "$2" && pwd)
. "$(dirname "${BASH_SOURCE[0]}")/bench-project.sh" "${3:-}"
make_project "$old"
port=$(sed -n 's|^address = "http://127.0.0.1:\([0-9]*\)"|\1|p' "$project/lantern.toml")
line_port=$((port > 40000 ? port - 1 : port + 1))
open_place
: > "$work/line"
python3 "$here/scripts/slow-line.py" "$line_port" "$port" 25 100 > "$work/line" &
line=$!
trap 'kill $line 2> /dev/null || true; end' EXIT
until grep -q ready "$work/line"; do sleep 0.1; done
l() { "$lantern" --project "$project" "$@"; }
pushed() { # NAME
    l prepare > /dev/null
    l push brambleyard --plan > /dev/null
    start=$(date +%s.%N)
    l push brambleyard --yes --json > "$work/push.json"
    python3 - "$1" "$start" "$(date +%s.%N)" "$work/push.json" << 'PY'
import json, sys
name, start, end, path = sys.argv[1:]
sent = sum(push["sent_bytes"] or 0 for push in json.load(open(path))["pushes"])
seconds, ideal = float(end) - float(start), sent * 8 / 100e6
print(f"{name}: {sent / 1e6:.1f} MB in {seconds:.1f} s; the line alone takes {ideal:.1f} s: {ideal / seconds:.2f} of it")
PY
}
# From here on the storefront is at the other end of the line.
sed -i "s|127.0.0.1:$port|127.0.0.1:$line_port|" "$project/lantern.toml"
LANTERN_SECRET=$secret l connect brambleyard --client paper-heron > /dev/null
pushed "first release"
l promote brambleyard creek --yes > /dev/null
rm -rf "$project/export"
cp -r "$new" "$project/export"
sed -i 's/1\.4\.0/1.4.1/' "$project/lantern.toml"
pushed "next release"
start=$(date +%s.%N)
l install brambleyard creek "$work/player" --target linux > /dev/null
python3 -c 'import sys; print(f"install of the first: {float(sys.argv[2]) - float(sys.argv[1]):.1f} s")' "$start" "$(date +%s.%N)"
