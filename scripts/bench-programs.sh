#!/usr/bin/env bash
# How fast Windows programs are signed, beside `sha256sum` and a plain copy: one large program, and a folder of many. The medians of
# $RUNS runs (default 3) on warm files, with the ratios and the memory. Noted in docs/performance.md.
#
# usage: scripts/bench-programs.sh PROGRAM.exe [BYTES] [FILES]
#   PROGRAM.exe: a program to begin with, such as lantern-demo/exports/windows/Saltmarsh Post.exe; data behind it makes it BYTES
#   long (default: 2,000,000,000), or FILES of 100 kB (default: 20,000)
set -euo pipefail
program=$(realpath "$1")
cd "$(dirname "${BASH_SOURCE[0]}")/.."
bytes=${2:-2000000000}
files=${3:-20000}
runs=${RUNS:-3}
. scripts/timing.sh
begin_signing
cp "$program" "$work/large.exe"
head -c $((bytes - $(stat -c %s "$program"))) /dev/urandom >> "$work/large.exe"

copy() { rm -f "$work/copy" && cat "$work/large.exe" > "$work/copy"; }
ours() { "$release/examples/sign" "$work/large.exe" "$work/signed.exe" "$key" > "$work/said"; }
theirs=$(for _ in $(seq "$runs"); do seconds sha256sum "$work/large.exe"; done | median)
plain=$(for _ in $(seq "$runs"); do seconds copy; done | median)
mine=$(for _ in $(seq "$runs"); do ours; cut -d' ' -f1 "$work/said"; done | median)
verified=$(for _ in $(seq "$runs"); do ours; cut -d' ' -f2 "$work/said"; done | median)
memory=$(memory "$release/examples/sign" "$work/large.exe" "$work/signed.exe" "$key")
echo "one of $bytes bytes   sha256sum $theirs s   a copy $plain s   signed $mine s, ratio to both" \
  "$(echo "scale=2; ($theirs + $plain) / $mine" | bc)   verified $verified s, ratio to sha256sum" \
  "$(echo "scale=2; $theirs / $verified" | bc)   memory $memory MB"
rm "$work/large.exe" "$work/signed.exe" "$work/copy"

"$release/lantern" key import studio "$key" --file-passphrase-file <(echo "punt and oar") > /dev/null
python3 - "$program" "$work/many" "$files" << 'PY'
import os, pathlib, sys
program, folder, files = pathlib.Path(sys.argv[1]).read_bytes(), pathlib.Path(sys.argv[2]), int(sys.argv[3])
for number in range(files):
    path = folder / f"{number // 500}" / f"{number}.dll"
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_bytes(program + os.urandom(100_000 - len(program)))
PY
hash_all() { find "$work/many" -type f -print0 | xargs -0 sha256sum; }
hashes=$(for _ in $(seq "$runs"); do seconds hash_all; done | median)
again=$(mktemp -d -p "$work")
cp -r "$work/many" "$again/many"
copies=$(seconds cp -r "$work/many" "$again/copy")
from=$(date +%s.%N)
peak=$( { /usr/bin/time -f %M "$release/lantern" sign "$again/many" --key studio --json > "$work/said"; } 2>&1 | tail -1)
to=$(date +%s.%N)
many=$(echo "$to - $from" | bc)
echo "$files of 100 kB   sha256sum $hashes s   a copy $copies s   signed $many s, each on the disk before the next, memory $((peak / 1024)) MB"
