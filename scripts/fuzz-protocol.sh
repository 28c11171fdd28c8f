#!/usr/bin/env bash
# Asks a stand-in what its own OpenAPI document allows, and what it does not: no answer may be a failure of the server, or
# one that the document does not know. The fuzzer comes from PyPI, into a cache outside of the repository.
set -euo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")/.."
cache="${XDG_CACHE_HOME:-$HOME/.cache}/kind-lantern-ci/fuzz"
seconds="${1:-90}"
if [ ! -x "$cache/bin/schemathesis" ]; then
  command -v python3 >/dev/null || { apt-get -qq update && DEBIAN_FRONTEND=noninteractive apt-get -y -qq install python3 python3-venv; }
  python3 -m venv "$cache"
  "$cache/bin/pip" install --quiet schemathesis==4.32.5
fi
cargo build --locked --quiet -p kind-lantern
lantern="${CARGO_TARGET_DIR:-target}/debug/lantern"
folder=$(mktemp -d)
"$lantern" rehearse --port 0 --state "$folder/place" >"$folder/out" &
server=$!
trap 'kill $server 2>/dev/null || true; wait $server 2>/dev/null || true; rm -rf "$folder"' EXIT
for _ in $(seq 100); do
  grep -q 'its secret' "$folder/out" && break
  sleep 0.1
done
origin=$(grep -oE 'http://127\.0\.0\.1:[0-9]+' "$folder/out" | head -1)
secret=$(grep 'its secret' "$folder/out" | grep -oE '[0-9a-f]{32}')

# Something to ask about: a title. What is made up beside it is refused, and must be refused as the document says.
python3 - "$origin" "$secret" >"$folder/token" <<'PY'
import json, sys, urllib.parse, urllib.request
origin, secret = sys.argv[1:]
def ask(path, data, headers):
    request = urllib.request.Request(origin + path, data=data, headers=headers)
    with urllib.request.urlopen(request) as answer:
        return json.load(answer)
form = {"grant_type": "client_credentials", "client_id": "paper-heron", "client_secret": secret}
token = ask("/v1/token", urllib.parse.urlencode(form).encode(), {})["access_token"]
title = {"handle": "saltmarsh-post", "name": "Saltmarsh Post", "identity": "example.paperheron.saltmarsh", "depots": ["sp-linux"]}
ask("/v1/titles", json.dumps(title).encode(), {
    "Authorization": "Bearer " + token, "Content-Type": "application/json",
    "Idempotency-Key": "01a207a2-3280-7000-8000-000000000001"})
print(token)
PY

fuzz() {
  "$cache/bin/schemathesis" --config-file "$1" run "$origin/v1/openapi.json" --url "$origin" \
    --header "Authorization: Bearer $(cat "$folder/token")" --max-time "$seconds" --seed 1 --no-color --warnings off \
    --checks not_a_server_error,status_code_conformance,content_type_conformance,response_headers_conformance,response_schema_conformance,negative_data_rejection,unsupported_method \
    --continue-on-failure
}

# Once with whatever is made up, and once about what is there.
: >"$folder/free.toml"
fuzz "$folder/free.toml"
printf '[parameters]\n"path.title" = "saltmarsh-post"\n"path.branch" = "open-water"\n' >"$folder/there.toml"
fuzz "$folder/there.toml"
