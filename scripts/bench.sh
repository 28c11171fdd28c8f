#!/usr/bin/env bash
# Speed and memory of the chain beside public tools, in one run: medians of $RUNS runs (default 5) of whole processes on
# warm files, with ratios. Results are noted in docs/performance.md.
#
# usage: scripts/bench.sh EXPORT_DIR [WORK_DIR]
#
# Needs zstd, b3sum, tar, cp, python3 and GNU time. WORK_DIR (default: a new folder in $TMPDIR) needs room for three
# times the export.
set -euo pipefail
export_dir=$(cd "${1:?usage: scripts/bench.sh EXPORT_DIR [WORK_DIR]}" && pwd)
runs=${RUNS:-5}
. "$(dirname "$0")/bench-project.sh" "${2:-}"
make_project "$export_dir"
bytes=$(find "$project/export" -type f -printf '%s\n' | awk '{s+=$1}END{printf "%.0f",s}')
files=$(find "$project/export" -type f | wc -l)

measure() { # NAME BEFORE COMMAND: the median of the seconds in $median, the largest peak in MB in $peak
    local name=$1 before=$2 command=$3 all=()
    peak=0
    for _ in $(seq "$runs"); do
        eval "$before"
        local line
        line=$( { /usr/bin/time -f 'TIME %e %M' bash -c "$command" > /dev/null; } 2>&1 | grep '^TIME')
        all+=("$(cut -d' ' -f2 <<< "$line")")
        local now=$(($(cut -d' ' -f3 <<< "$line") / 1000))
        [ "$now" -gt "$peak" ] && peak=$now
    done
    median=$(printf '%s\n' "${all[@]}" | sort -n | sed -n "$(((runs + 1) / 2))p")
    printf '%-44s %8s s   peak %4s MB\n' "$name" "$median" "$peak"
}
ratio() { python3 -c "print(f'{$1 / max($2, 0.001):.2f}')"; }
rate() { python3 -c "print(f'{$bytes / 1e6 / max($1, 0.001):.0f}')"; }

echo "$bytes bytes in $files files, $(nproc) processors, medians of $runs"
fresh="rm -rf '$project/.lantern'"

measure "tar | zstd -3 -T2" : "tar cf - -C '$project' export | zstd -q -3 -T2 -c"
zstd=$median
measure "prepare, everything new" "$fresh" "$run prepare"
echo "    ratio to zstd: $(ratio "$median" "$zstd") (wanted: at most 0.65); $(rate "$median") MB/s"

sleep 3
l prepare --read-all
measure "prepare, nothing changed" : "$run prepare"
echo "    wanted: at most $(python3 -c "print(f'{0.15 + 10e-6 * $files:.2f}')") s"

measure "b3sum, two threads" : "find '$project/export' -type f -print0 | xargs -0 b3sum --num-threads 2"
sum=$median
measure "prepare, the same bytes with new times" "find '$project/export' -type f -exec touch {} +" "$run prepare"
echo "    ratio to b3sum: $(ratio "$median" "$sum") (wanted: at most 1.2); $(rate "$median") MB/s"

measure "verify, every byte of the store" : "$run verify"
echo "    ratio to zstd: $(ratio "$median" "$zstd") (wanted: at most 0.18); $(rate "$median") MB/s"

open_place
before() { # the storefront has nothing; its address and secret are kept by keeping its facts
    close_place
    rm -rf "$project/place/titles"
    python3 - "$project/place/state.db" << 'PY'
import sqlite3, sys
db = sqlite3.connect(sys.argv[1])
for table in ["chunks", "builds", "moves", "answers", "events"]:
    db.execute(f"DELETE FROM {table}")
db.commit()
PY
    open_place
}
measure "push over loopback" before "$run push brambleyard --yes"
sent=$(find "$project/.lantern/store/packs" -type f -printf '%s\n' | awk '{s+=$1}END{printf "%.0f",s}')
echo "    $(python3 -c "print(f'{$sent / 1e6 / $median:.0f}')") MB/s of packs (wanted: at least 300)"

l promote brambleyard creek --yes
measure "cp -r" "forget '$work/copy'" "cp -r '$project/export' '$work/copy'"
copy=$median
measure "cp -r, and on the disk" "forget '$work/copy'" "cp -r '$project/export' '$work/copy' && sync -f '$work/copy'"
durable=$median
measure "install, everything new" "forget '$work/player'" "$run install brambleyard creek '$work/player' --target linux"
echo "    ratio to cp -r: $(ratio "$median" "$copy"); to cp -r and on the disk: $(ratio "$median" "$durable") (wanted: at most 1.1)"
diff -r --exclude=.lantern-install "$project/export" "$work/player"
