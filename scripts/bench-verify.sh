#!/usr/bin/env bash
# How fast a signed package is verified, beside two `openssl dgst -sha256` at once over the halves of the same file: the
# medians of $RUNS runs (default 5) on a warm file, with the ratio. Noted in docs/performance.md.
#
# usage: scripts/bench-verify.sh [BYTES]
set -euo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")/.."
bytes=${1:-1500000000}
runs=${RUNS:-5}
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
cargo build --release --quiet -p kind-lantern
LANTERN_SEEDS="$work" LANTERN_PACKAGE_LEN="$bytes" \
  cargo test --quiet -p lantern-formats --lib apk::tests::what_is_signed_holds > /dev/null
mv "$work/package/large" "$work/large.apk"
size=$(stat -c %s "$work/large.apk")
. scripts/timing.sh
halves "$work/large.apk"

ours() { LANTERN_HOME="$work/home" target/release/lantern inspect "$work/large.apk" --json; }
ours > "$work/said"
grep -q '"intact": *true' "$work/said" || { echo "the signature was not verified" >&2; exit 1; }
theirs=$(for _ in $(seq "$runs"); do seconds both; done | median)
mine=$(for _ in $(seq "$runs"); do seconds ours; done | median)
memory=$( { LANTERN_HOME="$work/home" /usr/bin/time -f %M target/release/lantern inspect "$work/large.apk" > /dev/null; } 2>&1 | tail -1)
echo "bytes $size   openssl, two at once $theirs s   lantern inspect $mine s   ratio $(echo "scale=2; $theirs / $mine" | bc)   memory $((memory / 1024)) MB"
