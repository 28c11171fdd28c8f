#!/usr/bin/env bash
# How fast a large program for macOS is signed, beside `sha256sum`, `openssl dgst` and a plain copy; and a bundle of many files. The
# medians of $RUNS runs (default 3) on warm files, with the ratios and the memory. Noted in docs/performance.md.
#
# usage: scripts/bench-code.sh PROGRAM [BYTES] [FILES]
#   PROGRAM: a program of one architecture to begin with, such as SaltmarshPost of lantern-demo/exports/saltmarsh.ipa; its last
#   segment is made longer until it has BYTES (default: 2,000,000,000). A bundle with it has FILES resources of 10 kB (default: 20,000)
set -euo pipefail
program=$(realpath "$1")
cd "$(dirname "${BASH_SOURCE[0]}")/.."
bytes=${2:-2000000000}
files=${3:-20000}
runs=${RUNS:-3}
. scripts/timing.sh
begin_signing

python3 - "$program" "$work/large" "$bytes" << 'PY'
import os, struct, sys
data, size = bytearray(open(sys.argv[1], "rb").read()), int(sys.argv[3])
at, (count,) = 32, struct.unpack_from("<I", data, 16)
for _ in range(count):
    command, length = struct.unpack_from("<II", data, at)
    if command == 0x19 and data[at + 8 : at + 18] == b"__LINKEDIT":
        place = struct.unpack_from("<Q", data, at + 40)[0]
        struct.pack_into("<Q", data, at + 32, (size - place + 0x3fff) // 0x4000 * 0x4000)
        struct.pack_into("<Q", data, at + 48, size - place)
    at += length
with open(sys.argv[2], "wb") as out:
    out.write(data)
    left = size - len(data)
    while left > 0:
        left -= out.write(os.urandom(min(left, 1 << 24)))
PY

copy() { rm -f "$work/copy" && cat "$work/large" > "$work/copy"; }
ours() { "$release/examples/sign" "$work/large" "$work/signed" "$key" > "$work/said"; }
theirs=$(for _ in $(seq "$runs"); do seconds sha256sum "$work/large"; done | median)
fast=$(for _ in $(seq "$runs"); do seconds openssl dgst -sha256 "$work/large"; done | median)
plain=$(for _ in $(seq "$runs"); do seconds copy; done | median)
mine=$(for _ in $(seq "$runs"); do ours; cut -d' ' -f1 "$work/said"; done | median)
verified=$(for _ in $(seq "$runs"); do ours; cut -d' ' -f2 "$work/said"; done | median)
memory=$(memory "$release/examples/sign" "$work/large" "$work/signed" "$key")
echo "one of $bytes bytes   sha256sum $theirs s   openssl dgst $fast s   a copy $plain s   signed $mine s, ratio to sha256sum" \
  "$(echo "scale=2; $theirs / $mine" | bc), to openssl and a copy $(echo "scale=2; ($fast + $plain) / $mine" | bc)" \
  "  verified $verified s   memory $memory MB"
rm "$work/large" "$work/signed" "$work/copy"

"$release/lantern" key import studio "$key" --file-passphrase-file <(echo "punt and oar") > /dev/null
app="$work/Many.app/Contents"
mkdir -p "$app/MacOS" "$app/Resources"
cp "$program" "$app/MacOS/many"
cat > "$app/Info.plist" << 'PLIST'
<plist version="1.0"><dict><key>CFBundleExecutable</key><string>many</string><key>CFBundleIdentifier</key><string>example.paperheron.many</string></dict></plist>
PLIST
python3 - "$app/Resources" "$files" << 'PY'
import os, pathlib, sys
for number in range(int(sys.argv[2])):
    path = pathlib.Path(sys.argv[1]) / f"{number // 500}" / f"{number}.tex"
    path.parent.mkdir(exist_ok=True)
    path.write_bytes(os.urandom(10_000))
PY
hash_all() { find "$app" -type f -print0 | xargs -0 sha256sum; }
hashes=$(for _ in $(seq "$runs"); do seconds hash_all; done | median)
many=$(for _ in $(seq "$runs"); do rm -rf "$app/_CodeSignature"; seconds "$release/lantern" sign "$work/Many.app" --key studio; done | median)
checked=$(for _ in $(seq "$runs"); do seconds "$release/lantern" verify "$work/Many.app"; done | median)
peak=$(memory "$release/lantern" sign "$work/Many.app" --key studio)
echo "a bundle with $files files of 10 kB   sha256sum $hashes s   signed $many s   verified $checked s   memory $peak MB"
