#!/usr/bin/env bash
# How fast a package is signed, beside two `openssl dgst -sha256` at once over the halves of the same file, and beside a plain copy
# of it: the medians of $RUNS runs (default 3) on a warm file, with the ratios. Noted in docs/performance.md.
#
# usage: scripts/bench-sign.sh PACKAGE [BYTES]
#   PACKAGE: a package to begin with, such as lantern-demo/exports/saltmarsh.apk; it grows to BYTES (default: 1,500,000,000)
set -euo pipefail
package=$(realpath "$1")
cd "$(dirname "${BASH_SOURCE[0]}")/.."
bytes=${2:-1500000000}
runs=${RUNS:-3}
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
cargo build --release --quiet -p lantern-sign --example sign
sign=${CARGO_TARGET_DIR:-target}/release/examples/sign
key=crates/lantern-keys/tests/samples/aes.p12
export LANTERN_KEY_PASSPHRASE="punt and oar"
python3 - "$package" "$work/large.apk" "$bytes" << 'PY'
import os, shutil, sys, zipfile
package, large, size = sys.argv[1], sys.argv[2], int(sys.argv[3])
shutil.copy(package, large)
with zipfile.ZipFile(large, "a") as out:
    for number in range(1 + size // 400_000_000):
        left = min(400_000_000, size - number * 400_000_000)
        with out.open(f"assets/large-{number}", "w") as entry:
            while left > 0:
                left -= entry.write(os.urandom(min(left, 1 << 20)))
PY
size=$(stat -c %s "$work/large.apk")
. scripts/timing.sh
halves "$work/large.apk"

copy() { rm -f "$work/copy" && cat "$work/large.apk" > "$work/copy"; }
ours() { "$sign" "$work/large.apk" "$work/signed.apk" "$key" > "$work/said"; }
theirs=$(for _ in $(seq "$runs"); do seconds both; done | median)
plain=$(for _ in $(seq "$runs"); do seconds copy; done | median)
rm -f "$work/copy"
mine=$(for _ in $(seq "$runs"); do ours; cut -d' ' -f1 "$work/said"; done | median)
digests=$(for _ in $(seq "$runs"); do ours; cut -d' ' -f2 "$work/said"; done | median)
grep -q '\[2, 3\]' "$work/said"
memory=$( { /usr/bin/time -f %M "$sign" "$work/large.apk" "$work/signed.apk" "$key" > /dev/null; } 2>&1 | tail -1)
echo "bytes $size   openssl, two at once $theirs s   a copy $plain s   signed and verified $mine s" \
  "verified alone $digests s, ratio to openssl $(echo "scale=2; $theirs / $digests" | bc)   signed: ratio to both $(echo "scale=2; ($theirs + $plain) / $mine" | bc)   memory $((memory / 1024)) MB"
