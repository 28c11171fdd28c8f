#!/usr/bin/env bash
# One release after another through the whole chain: what the second adds, sends and brings to players, in which time, beside a copy
# and a synchronising copy of the same folders in the same run. Results are noted in docs/performance.md.
#
# usage: scripts/bench-update.sh OLD_DIR NEW_DIR [WORK_DIR]
#
# Needs cp, rsync, python3 and GNU time. WORK_DIR (default: a new folder in $TMPDIR) needs room for eight times the export.
set -euo pipefail
old=$(cd "${1:?usage: scripts/bench-update.sh OLD_DIR NEW_DIR [WORK_DIR]}" && pwd)
new=$(cd "${2:?usage: scripts/bench-update.sh OLD_DIR NEW_DIR [WORK_DIR]}" && pwd)
runs=${RUNS:-3}
. "$(dirname "$0")/bench-project.sh" "${3:-}"

size() { find "$1" -type f -printf '%s\n' | awk '{s+=$1}END{printf "%.1f MB", s/1e6}'; }
timed() { # NAME COMMAND
    sync
    local line
    line=$( { /usr/bin/time -f 'TIME %e %U %S %M' bash -c "$2" > "$work/out"; } 2>&1 | grep '^TIME' || true)
    read -r _ seconds user system peak <<< "$line"
    printf '%-44s %6s s, %6s s of processors, %4s MB\n' "$1" "$seconds" \
        "$(python3 -c "print(f'{$user + $system:.1f}')")" "$((peak / 1000))"
}

make_project "$old"
timed "prepare, first release" "$run prepare"
echo "    in the store: $(size "$project/.lantern/store/packs")"
open_place
timed "push" "$run push brambleyard --yes"
l promote brambleyard creek --yes
for round in $(seq "$runs"); do
    timed "install" "$run install brambleyard creek '$work/player-$round' --target linux"
    # A file that was just written may still be changing: only what is older need not be read again.
    sleep 3
    l install brambleyard creek "$work/player-$round" --target linux
done
rm -rf "$project/export"
cp -r "$new" "$project/export"
sed -i 's/1\.4\.0/1.4.1/' "$project/lantern.toml"
before=$(size "$project/.lantern/store/packs")
timed "prepare, second release" "$run prepare"
echo "    in the store: $before, then $(size "$project/.lantern/store/packs")"
timed "push, with the update file" "$run push brambleyard --yes"
grep -a -E "sent|update files" "$work/out" || true
l promote brambleyard creek --yes
for round in $(seq "$runs"); do
    forget "$work/copy" "$work/synced" "$work/updated"
    cp -r "$work/player-$round" "$work/updated"
    cp -r "$old" "$work/synced"
    timed "cp -r of the second release" "cp -r '$new' '$work/copy'"
    timed "rsync -a --checksum --no-whole-file" "rsync -a --checksum --no-whole-file --delete '$new/' '$work/synced/'"
    timed "install in a copy of the folder with the first" "$run install brambleyard creek '$work/updated' --target linux"
    timed "install in the folder that holds the first" "$run install brambleyard creek '$work/player-$round' --target linux"
    grep -a -E "came|updated|checked" "$work/out" || true
    diff -r --exclude=.lantern-install "$new" "$work/player-$round"
done
diff -r --exclude=.lantern-install "$new" "$work/updated"
forget "$work/copy" "$work/synced" "$work/updated" "$work"/player-*
for round in $(seq "$runs"); do
    timed "install, everything new" "$run install brambleyard creek '$work/player-$round' --target linux"
    timed "cp -r of the second release, then sync" "cp -r '$new' '$work/copy-$round'; sync -f '$work/copy-$round'"
    diff -r --exclude=.lantern-install "$new" "$work/player-$round"
done
