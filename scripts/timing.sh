# Functions of the benchmarks that compare with general tools; sourced.

# The median of the numbers on standard input.
median() { sort -n | awk '{v[NR]=$1} END {print v[int((NR+1)/2)]}'; }

# Seconds that a command takes.
seconds() {
  local from to
  from=$(date +%s.%N)
  "$@" > /dev/null
  to=$(date +%s.%N)
  echo "$to - $from" | bc
}

# Cuts a file into halves, and hashes both at once.
halves() {
  local size
  size=$(stat -c %s "$1")
  head -c $((size / 2)) "$1" > "$work/first"
  tail -c +$((size / 2 + 1)) "$1" > "$work/second"
}
both() {
  openssl dgst -sha256 "$work/first" &
  openssl dgst -sha256 "$work/second" &
  wait
}

# Builds what signs, and takes a key and a keyring that nobody else uses. Sets $work, which is removed at the end, $release and $key.
begin_signing() {
  work=$(mktemp -d)
  trap 'rm -rf "$work"' EXIT
  cargo build --release --quiet -p lantern-sign --example sign
  cargo build --release --quiet -p kind-lantern
  release=${CARGO_TARGET_DIR:-target}/release
  key=crates/lantern-keys/tests/samples/aes.p12
  export LANTERN_KEY_PASSPHRASE="punt and oar" LANTERN_HOME="$work/home"
}

# The most memory that a command had, in MB.
memory() { echo $(( $( { /usr/bin/time -f %M "$@" > /dev/null; } 2>&1 | tail -1) / 1024 )); }
