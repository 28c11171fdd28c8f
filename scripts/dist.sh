#!/usr/bin/env bash
# An archive to hand to people: the stripped program with completions, manual pages and all licenses. Prints its size, and how long
# the program takes to start.
#
#   scripts/dist.sh [FOLDER]      FOLDER: where the archive goes; left out: dist
#
# On Linux the program is linked statically where the tools for that are there (the target x86_64-unknown-linux-musl and
# musl-gcc); otherwise it needs the C library of this computer or a newer one, and the script says which. For Windows, with Rust's
# standard library for it (rustup target add x86_64-pc-windows-gnu) and Debian's gcc-mingw-w64-x86-64, g++-mingw-w64-x86-64 and nasm:
# TARGET=x86_64-pc-windows-gnu scripts/dist.sh
set -euo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")/.."
to=${1:-dist}
host=$(rustc -vV | sed -n 's/^host: //p')
target=${TARGET:-$host}
static="linked to the C library of this computer"
if [ -z "${TARGET:-}" ] && [ "$host" = x86_64-unknown-linux-gnu ] && command -v musl-gcc > /dev/null \
  && rustup target list --installed 2> /dev/null | grep -qx x86_64-unknown-linux-musl; then
  target=x86_64-unknown-linux-musl
  static="linked statically"
fi
if [ "$target" = x86_64-pc-windows-gnu ]; then
  static="linked to what Windows brings"
  mingw=x86_64-w64-mingw32
  export CARGO_TARGET_X86_64_PC_WINDOWS_GNU_LINKER=$mingw-gcc
  export CC_x86_64_pc_windows_gnu=$mingw-gcc CXX_x86_64_pc_windows_gnu=$mingw-g++ AR_x86_64_pc_windows_gnu=$mingw-ar
fi
cargo build --locked --profile dist -p kind-lantern --target "$target"
folder=${CARGO_TARGET_DIR:-target}/$target/dist
program=$folder/lantern
[ -e "$program" ] || program=$program.exe
version=$(cargo metadata --locked --no-deps --format-version 1 | python3 -c \
  'import json, sys; print(next(p["version"] for p in json.load(sys.stdin)["packages"] if p["name"] == "kind-lantern"))')
name=kind-lantern-$version-$target
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
mkdir -p "$work/$name/completions" "$to"
cp "$program" README.md CHANGELOG.md LICENSE-APACHE LICENSE-MIT "$work/$name/"
# What the program writes about itself is written by one that runs here.
here=$program
if [ "${target#*windows}" != "$target" ] || [ "${target#*darwin}" != "$target" ]; then
  cargo build --locked -p kind-lantern
  here=${CARGO_TARGET_DIR:-target}/debug/lantern
fi
for shell in bash zsh fish powershell elvish; do "$here" completions "$shell" > "$work/$name/completions/lantern.$shell"; done
"$here" manual "$work/$name/man" > /dev/null
python3 scripts/licenses.py > "$work/$name/LICENSES-OF-LIBRARIES.txt"
# The same program gives the same archive: no times, no accounts.
if [ "${target#*windows}" != "$target" ]; then
  (cd "$work" && find "$name" -exec touch -d 2000-01-01T00:00:00Z {} + && python3 -m zipfile -c "$name.zip" "$name")
  archive=$name.zip
else
  tar --sort=name --mtime=2000-01-01T00:00:00Z --owner=0 --group=0 --numeric-owner -C "$work" -czf "$work/$name.tar.gz" "$name"
  archive=$name.tar.gz
fi
mv "$work/$archive" "$to/"
echo "$to/$archive: $(stat -c %s "$to/$archive") bytes, the program $(stat -c %s "$program") bytes, $static"
if [ "$here" = "$program" ]; then
  ldd "$program" 2> /dev/null | sed 's/^/  /' || true
  python3 - "$program" << 'PY'
import subprocess, sys, time
times = []
for _ in range(21):
    begun = time.perf_counter()
    subprocess.run([sys.argv[1], "--help"], stdout=subprocess.DEVNULL, check=True)
    times.append(time.perf_counter() - begun)
print(f"lantern --help: {sorted(times)[10] * 1000:.1f} ms, the median of 21")
PY
fi
