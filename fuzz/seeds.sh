#!/usr/bin/env bash
# Fills fuzz/corpus, or another folder, with something to start from: the files and lines that the example makes.
# fuzz/seeds.sh DEMO_DIR [CORPUS_DIR]
set -euo pipefail
demo=$(cd "$1" && pwd)
corpus=${2:-$(dirname "${BASH_SOURCE[0]}")/corpus}
mkdir -p "$corpus"/{store,update,lasting,texts,keys}
corpus=$(cd "$corpus" && pwd)
cd "$(dirname "${BASH_SOURCE[0]}")"
copy() { # copy TARGET FILE…: under names of their own
  local target=$1
  shift
  for file in "$@"; do cp "$file" "$corpus/$target/$(sha256sum "$file" | cut -c1-16)"; done
}
# Long packs and recipes teach a fuzzer nothing that short ones do not.
mapfile -t store < <(find "$demo/.lantern/store" "$demo/rehearsal" -type f -size -64k ! -path '*/releases/*' ! -name '*.json')
copy store "${store[@]}"
mapfile -t updates < <(find "$demo/.lantern/store/updates" -type f -size -64k)
copy update "${updates[@]}"
mapfile -t records < <(find "$demo/.lantern/store/releases" -type f)
copy lasting "${records[@]}"
n=0
while IFS= read -r line; do
  n=$((n + 1))
  printf '%s' "$line" >"$corpus/lasting/event-$n"
done <"$demo/.lantern/ledger-copy.jsonl"

copy texts "$demo/lantern.toml"
copy keys ../crates/lantern-keys/tests/samples/*.{p12,jks,pem}
cat ../crates/lantern-keys/tests/samples/ec.{pem,crt} > "$corpus/keys/with-certificate"
wc -l < <(find "$corpus" -type f)
