#!/usr/bin/env bash
# How long the program takes on a long ledger: bench-ledger.sh [EVENTS] (default 1,000,000). Prints the wall time and the peak
# memory of each command, the first run (which reads every event and keeps what follows from them) and the median of five more.
# Wanted of those: at most 0.15 s and 100 MB each. Needs GNU time.
set -euo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")/.."
events=${1:-1000000}
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
export LANTERN_HOME="$work/home" TZ=UTC

cargo build --release --locked -p kind-lantern -p lantern-ledger --features lantern-ledger/samples --bin lantern --example long_ledger
target=${CARGO_TARGET_DIR:-target}
lantern=$(realpath "$target/release/lantern") long=$(realpath "$target/release/examples/long_ledger")
mkdir -p "$work/game/exports/linux"
printf '#!/bin/sh\n' > "$work/game/exports/linux/saltmarsh"
cat > "$work/game/lantern.toml" << 'TOML'
[game]
name = "Saltmarsh Post"
studio = "Paper Heron"
identity = "example.paperheron.saltmarsh"
version = "1.4.0"

[targets.linux]
systems = ["linux-x86_64"]
export = "exports/linux"
starts = "saltmarsh"

[storefronts.brambleyard]
kind = "protocol"
address = "http://127.0.0.1:4870"
handle = "saltmarsh-post"
depots = { linux = "sp-linux" }

[storefronts.brambleyard.branches]
creek = { audience = "invited" }
open-water = { audience = "everyone" }
TOML
cd "$work/game"
"$lantern" > /dev/null
rm -f .lantern/ledger.db*
started=$(date +%s.%N)
"$long" .lantern/ledger.db "$events"
python3 -c "import sys; print(f'{$events} events, {float(sys.argv[2]) - float(sys.argv[1]):.0f} s to write, {int(sys.argv[3]) / 1e6:.0f} MB')" \
  "$started" "$(date +%s.%N)" "$(stat -c %s .lantern/ledger.db)"

once() { /usr/bin/time -f '%e %M' -o "$work/time" "$lantern" "$@" > "$work/out"; cat "$work/time"; }
first=$(once live --offline)
echo "first run, live --offline: ${first% *} s, $((${first#* } / 1024)) MB; kept: $(stat -c %s .lantern/cache/boards 2> /dev/null || echo 0) bytes"
for command in "live --offline" "history --count 20" ""; do
  for _ in 1 2 3 4 5; do
    # shellcheck disable=SC2086
    once $command
  done | sort -n | sed -n 3p | while read -r seconds kilobytes; do
    echo "lantern ${command}: $seconds s, $((kilobytes / 1024)) MB"
  done
done
