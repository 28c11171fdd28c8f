# A project with one export and a stand-in storefront, for the benchmarks of the chain; sourced with the folder to work in, or with nothing. Sets
# $here, $work, $lantern, $project and $run. With LANTERN=PROGRAM that one is measured, and none is built.

here=$(cd "$(dirname "${BASH_SOURCE[0]}")/.." && pwd)
work=${1:-$(mktemp -d)}
mkdir -p "$work"
work=$(cd "$work" && pwd)
lantern=${LANTERN:-${CARGO_TARGET_DIR:-$here/target}/release/lantern}
export LANTERN_HOME="$work/home"
project="$work/project"
run="'$lantern' --project '$project'"
place=

end() { [ -z "$place" ] || kill "$place" 2> /dev/null || true; }
trap end EXIT

l() { "$lantern" --project "$project" "$@" > /dev/null; }

open_place() {
    "$lantern" --project "$project" rehearse --state "$project/place" --json > "$work/rehearse.json" &
    place=$!
    sleep 1
    LANTERN_SECRET=$secret "$lantern" --project "$project" connect brambleyard --client paper-heron > /dev/null
}
close_place() {
    kill "$place"
    wait "$place" 2> /dev/null || true
    place=
}

# Removes folders, and waits: for a minute ext4 makes no file where one was deleted, and looks at each of those places first, which took an
# installation of 3,100 files 1.3 s.
forget() {
    rm -rf "$@"
    sync
    sleep 61
}

make_project() { # EXPORT_DIR
    [ -n "${LANTERN:-}" ] || (cd "$here" && cargo build --release --quiet)
    rm -rf "$project"
    mkdir -p "$project/place"
    "$lantern" --project "$project" rehearse --port 0 --state "$project/place" --json > "$work/rehearse.json" &
    place=$!
    sleep 1
    address=$(python3 -c 'import json,sys; print(json.load(open(sys.argv[1]))["address"])' "$work/rehearse.json")
    secret=$(python3 -c 'import json,sys; print(json.load(open(sys.argv[1]))["secret"])' "$work/rehearse.json")
    close_place
    cat > "$project/lantern.toml" << TOML
[game]
name = "Saltmarsh Post"
studio = "Paper Heron"
identity = "example.paperheron.saltmarsh"
version = "1.4.0"
[editions.parts]
name = "Parts"
kind = "companion"
[targets.linux]
edition = "parts"
systems = ["linux-x86_64"]
export = "export"
[checks]
accept = [{ code = "broken-signature", because = "libraries that were laid end to end", path = "*.exe" }]
[storefronts.brambleyard]
kind = "protocol"
address = "$address"
handle = { parts = "saltmarsh-parts" }
depots = { linux = "sp-linux" }
[storefronts.brambleyard.branches]
creek = { audience = "invited" }
open-water = { audience = "everyone" }
TOML
    cp -r "$1" "$project/export"
}
