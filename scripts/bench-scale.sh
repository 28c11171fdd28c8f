#!/usr/bin/env bash
# What the chain costs for once, four and sixteen times the data: 3,000, 12,000 and 48,000 files, 0.1, 0.4 and 1.6 GB of which half compresses.
# The next release edits some bytes of one file in a hundred. A line with tabs for each: seconds, and the peak memory of each command.
# usage: scripts/bench-scale.sh [WORK]   (LANTERN=PROGRAM measures that one; TIMES="1 4" other sizes)
set -euo pipefail
. "$(dirname "${BASH_SOURCE[0]}")/bench-project.sh" "${1:-}"

export_of() { # FOLDER TIMES
    python3 - "$@" << 'PY'
import os, random, sys
folder, times = sys.argv[1], int(sys.argv[2])
dice = random.Random(7)
words = [dice.randbytes(dice.randrange(3, 12)) for _ in range(4000)]
for number in range(3000 * times):
    path = f"{folder}/data/{number // 100:04}/part-{number:05}.bin"
    os.makedirs(os.path.dirname(path), exist_ok=True)
    size = 1000 + (number * number * 7919) % 150_000 // (1 + number % 7)
    with open(path, "wb") as file:
        if number % 2:
            file.write(dice.randbytes(size))
        else:
            file.write(b"".join(dice.choices(words, k=size // 7 + 1))[:size])
PY
}
edit() { # FOLDER
    python3 - "$1" << 'PY'
import glob, os, sys
for path in sorted(glob.glob(f"{sys.argv[1]}/data/*/*.bin"))[::100]:
    with open(path, "r+b") as file:
        file.seek(os.path.getsize(path) // 3)
        file.write(b"the tide table of the next year")
PY
}
timed() { # NAME COMMAND…
    local name=$1
    shift
    # What others have written is not waited for.
    sync
    /usr/bin/time -f "%e %M" -o "$work/time" "$lantern" --project "$project" "$@" > /dev/null
    read -r seconds kilobytes < "$work/time"
    names+=("$name, s" "$name, MB")
    row+=("$seconds" "$((kilobytes / 1000))")
}

head=
for times in ${TIMES:-1 4 16}; do
    rm -rf "$work/export" "$work/player" "$work/time"
    export_of "$work/export" "$times"
    megabytes=$(($(du -sb "$work/export" | cut -f1) / 1000000))
    make_project "$work/export"
    rm -rf "$work/export"
    open_place
    names=("times" "data, MB") row=("$times" "$megabytes")
    timed "prepare" prepare
    # Files are trusted unread when they are older than the moment they were read.
    sleep 2
    "$lantern" --project "$project" prepare > /dev/null
    timed "nothing changed" prepare
    timed "push" push brambleyard --yes
    "$lantern" --project "$project" promote brambleyard creek --yes > /dev/null
    timed "install" install brambleyard creek "$work/player" --target linux
    sed -i 's/1\.4\.0/1.4.1/' "$project/lantern.toml"
    edit "$project/export"
    timed "next prepare" prepare
    timed "next push" push brambleyard --yes
    "$lantern" --project "$project" promote brambleyard creek --yes > /dev/null
    timed "update" install brambleyard creek "$work/player" --target linux
    timed "verify" verify
    end
    place=
    if [ -z "$head" ]; then
        head=$(IFS=$'\t'; echo "${names[*]}")
        echo "$head"
    fi
    (IFS=$'\t'; echo "${row[*]}")
done
