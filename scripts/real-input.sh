#!/usr/bin/env bash
# The whole chain on real data: successive releases of a large package for three systems, a large export in two
# versions, and many small files. Prints sealed, uploaded and installed bytes, and holds every installed copy against
# its source. None of the data belongs into this repository.
#
# usage: scripts/real-input.sh DATA_DIR [WORK_DIR]
#
# DATA_DIR holds what is there of:
#   releases/{windows,macos,linux}/VERSION/  three or more versions: three targets, release after release
#   export/{v1,v2}/                           a large export in two versions
# The 50,000 small files are made here. With LANTERN=PROGRAM that one is tried, and none is built. WORK_DIR (default: a new folder in $TMPDIR) needs room for all of it again.
set -euo pipefail
data=$(cd "${1:?usage: scripts/real-input.sh DATA_DIR [WORK_DIR]}" && pwd)
here=$(cd "$(dirname "$0")/.." && pwd)
work=${2:-$(mktemp -d)}
mkdir -p "$work"
work=$(cd "$work" && pwd)
[ -n "${LANTERN:-}" ] || (cd "$here" && cargo build --release --quiet)
lantern=${LANTERN:-${CARGO_TARGET_DIR:-$here/target}/release/lantern}
export LANTERN_HOME="$work/home"

say() { printf '\n== %s\n' "$*"; }
seconds() { # runs a command, leaves its output in $out and its seconds in $took
    local start end
    start=$(date +%s.%N)
    out=$("$@")
    end=$(date +%s.%N)
    took=$(python3 -c "print(f'{$end - $start:.1f}')")
}
field() { # a field of the JSON document in $out, by a path such as releases.0.stored_bytes
    python3 -c '
import json, sys
value = json.loads(sys.argv[1])
for step in sys.argv[2].split("."):
    value = value[int(step)] if step.isdigit() else value[step]
print(value)' "$out" "$1"
}
bytes() { du -sb "$1" | cut -f1; }

begin() { # NAME CONFIG: a project with its storefront
    project="$work/$1"
    rm -rf "$project"
    mkdir -p "$project"
    "$lantern" --project "$project" rehearse --port 0 --state "$project/place" --json > "$project/rehearse.json" &
    place=$!
    trap 'kill $place 2> /dev/null || true' EXIT
    for _ in $(seq 100); do [ -s "$project/rehearse.json" ] && break; sleep 0.1; done
    sleep 0.3
    local address secret
    address=$(python3 -c 'import json,sys; print(json.load(open(sys.argv[1]))["address"])' "$project/rehearse.json")
    secret=$(python3 -c 'import json,sys; print(json.load(open(sys.argv[1]))["secret"])' "$project/rehearse.json")
    kill $place
    wait $place 2> /dev/null || true
    sed "s|ADDRESS|$address|" "$2" > "$project/lantern.toml"
    "$lantern" --project "$project" rehearse --state "$project/place" --json > "$project/rehearse.json" &
    place=$!
    sleep 0.7
    LANTERN_SECRET=$secret "$lantern" --project "$project" connect brambleyard --client paper-heron > /dev/null
}

finish() {
    kill $place
    wait $place 2> /dev/null || true
    trap - EXIT
}

chain() { # VERSION TARGET…: one release through the whole chain; each target is installed and compared
    local version=$1 number
    shift
    seconds "$lantern" --project "$project" prepare --version "$version" --json
    number=$(field releases.0.release.number)
    printf '%-10s sealed    %14s bytes added, %s read, %s s\n' "$version" "$(field releases.0.stored_bytes)" \
        "$(field releases.0.read_bytes)" "$took"
    seconds "$lantern" --project "$project" push brambleyard --yes --json
    printf '%-10s uploaded  %14s bytes, foretold %s, %s s\n' "$version" "$(field pushes.0.sent_bytes)" \
        "$(field pushes.0.upload_bytes)" "$took"
    [ "$(field pushes.0.sent_bytes)" -le "$(field pushes.0.upload_bytes)" ]
    "$lantern" --project "$project" promote brambleyard creek "$number" --yes > /dev/null
    for target in "$@"; do
        seconds "$lantern" --project "$project" install brambleyard creek "$work/player-$target" \
            --target "$target" --json
        printf '%-10s installed %14s bytes for %s, %s came, %s s\n' "$version" "$(field bytes)" "$target" \
            "$(field received_bytes)" "$took"
        diff -r --exclude=.lantern-install "$project/exports/$target" "$work/player-$target"
    done
}

storefront='
[storefronts.brambleyard]
kind = "protocol"
address = "ADDRESS"
handle = "saltmarsh-post"
depots = DEPOTS

[storefronts.brambleyard.branches]
creek = { audience = "invited" }
'
game='[game]
name = "Saltmarsh Post"
studio = "Paper Heron"
identity = "example.paperheron.saltmarsh"
version = "0"

# Libraries are no games: nothing in them is started.
[editions.parts]
name = "Parts"
kind = "companion"

[checks]
accept = [{ code = "broken-signature", because = "libraries that were laid end to end", path = "*.exe" }]
'
target() { printf '[targets.%s]\nedition = "parts"\nsystems = ["%s"]\nexport = "exports/%s"\n' "$1" "$2" "$1"; }
config="$work/template.toml"
parts=${storefront/handle = \"saltmarsh-post\"/handle = \{ parts = \"saltmarsh-parts\" \}}

if [ -d "$data/releases" ]; then
    say "successive releases for three systems"
    {
        echo "$game"
        target windows windows-x86_64
        target macos macos-x86_64
        target linux linux-x86_64
        echo "${parts/DEPOTS/\{ windows = \"sp-win\", macos = \"sp-mac\", linux = \"sp-linux\" \}}"
    } > "$config"
    begin releases "$config"
    rm -rf "$work"/player-*
    for version in $(ls "$data/releases/linux" | sort -V | tail -3); do
        mkdir -p "$project/exports"
        for target in windows macos linux; do
            rm -rf "$project/exports/$target"
            cp -r "$data/releases/$target/$version" "$project/exports/$target"
        done
        printf '%-10s exported  %14s bytes\n' "$version" "$(bytes "$project/exports")"
        chain "$version" windows macos linux
    done
    finish
fi

if [ -d "$data/export/v1" ]; then
    say "a large export in two versions"
    {
        echo "$game"
        target windows windows-x86_64
        echo "${parts/DEPOTS/\{ windows = \"sp-win\" \}}"
    } > "$config"
    begin large "$config"
    rm -rf "$work"/player-*
    for version in v1 v2; do
        mkdir -p "$project/exports"
        rm -rf "$project/exports/windows"
        cp -r "$data/export/$version" "$project/exports/windows"
        printf '%-10s exported  %14s bytes\n' "${version#v}.0" "$(bytes "$project/exports")"
        chain "${version#v}.0" windows
    done
    seconds "$lantern" --project "$project" prepare --version 2.0 --json
    printf '%-10s unchanged: %s s\n' 2.0 "$took"
    finish
fi

say "50,000 small files"
{
    echo "$game"
    target linux linux-x86_64
    echo "${parts/DEPOTS/\{ linux = \"sp-linux\" \}}"
} > "$config"
begin small "$config"
rm -rf "$work"/player-*
python3 - "$project/exports/linux" <<'PY'
import hashlib, os, sys
root = sys.argv[1]
for i in range(50_000):
    folder = os.path.join(root, f"{i % 97:02d}", f"{i % 1009:04d}")
    os.makedirs(folder, exist_ok=True)
    seed = hashlib.sha256(str(i).encode()).digest()
    with open(os.path.join(folder, f"{i}.txt"), "wb") as out:
        out.write(seed * (1 + seed[0] % 40))
PY
chain 1.0 linux
echo "one line more" >> "$project/exports/linux/00/0000/0.txt"
chain 1.1 linux
seconds "$lantern" --project "$project" prepare --version 1.1 --json
printf '%-10s unchanged: %s s\n' 1.1 "$took"
finish
say "every installed copy was what had been exported"
