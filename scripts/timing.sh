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
