#!/usr/bin/env bash
# Fuzzes readers: scripts/fuzz.sh SECONDS DEMO_DIR [TARGET…], the targets of fuzz/targets; without any, store and update. DEMO_DIR is what
# `lantern demo` made: its files are what the fuzzer begins with. Needs no other tool than a C++ compiler; what is found lies in the folder
# that is named at the end.
# 3 where there is no C++ compiler.
set -euo pipefail
seconds=$1
demo=$(cd "$2" && pwd)
shift 2
targets=("$@")
((${#targets[@]})) || targets=(store update)
cd "$(dirname "${BASH_SOURCE[0]}")/.."

if ! command -v c++ >/dev/null; then
  echo "fuzz: there is no C++ compiler here, and the fuzzer itself is written in C++"
  exit 3
fi

work=${CARGO_TARGET_DIR:-target}/fuzz
mkdir -p "$work"
work=$(cd "$work" && pwd)
bash fuzz/seeds.sh "$demo" "$work/corpus" >/dev/null

# Counters at every branch, and what is compared, for the fuzzer to see; https://llvm.org/docs/SanitizerCoverage.html
# Only our own crates get them, and nothing is optimised fully: both would make building it take many times as long.
cat >"$work/rustc" <<'EOF'
#!/usr/bin/env bash
rustc=$1
shift
case " $* " in
*" --crate-name lantern_"* | *" targets/"*)
  set -- "$@" --cfg fuzzing -Cpasses=sancov-module -Cllvm-args=-sanitizer-coverage-level=4 \
    -Cllvm-args=-sanitizer-coverage-inline-8bit-counters -Cllvm-args=-sanitizer-coverage-pc-table \
    -Cllvm-args=-sanitizer-coverage-trace-compares
  ;;
esac
exec "$rustc" "$@"
EOF
chmod +x "$work/rustc"
host=$(rustc -vV | sed -n 's/^host: //p')
features=()
bins=()
for target in "${targets[@]}"; do
  bins+=(--bin "$target")
  # These two read what this project alone writes, and are built without the libraries of all the others.
  [[ $target == store || $target == update ]] || features=(--features all)
done
RUSTC_WRAPPER=$work/rustc CARGO_PROFILE_RELEASE_OPT_LEVEL=1 CARGO_TARGET_DIR=$work/target \
  cargo build --quiet --release --locked --manifest-path fuzz/Cargo.toml \
  --target "$host" --no-default-features "${features[@]}" "${bins[@]}"

for target in "${targets[@]}"; do
  mkdir -p "$work/corpus/$target" "$work/found/$target"
  log=$work/found/$target.log
  if ! "$work/target/$host/release/$target" "$work/corpus/$target" -max_total_time="$seconds" -timeout=20 -rss_limit_mb=2048 \
    -artifact_prefix="$work/found/$target/" -print_final_stats=1 >"$log" 2>&1; then
    tail -40 "$log"
    echo "fuzz: $target: a fault; the input lies in $work/found/$target"
    exit 1
  fi
  runs=$(sed -n 's/^stat::number_of_executed_units: *//p' "$log")
  echo "fuzz: $target: $runs inputs in $seconds s, no fault"
done
