#!/usr/bin/env bash
# Fetches real programs and packages that others have made and signed, from npm and PyPI, and holds what `lantern
# inspect` says of them against what is known. They stay in a cache outside of the repository. Fails when one cannot be
# fetched or is not the one that is known: nothing is skipped. docs/real-files.md says how each expectation is known.
set -euo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")/.."
cache="${LANTERN_REAL_FILES:-${XDG_CACHE_HOME:-$HOME/.cache}/kind-lantern-ci/real-files}"
mkdir -p "$cache"

# Where from, name, version, platform (of PyPI), SHA-256, name of the file.
files() {
  cat <<'LIST'
npm appium-android-ime 2.0.0 - 44d0d356c972deb7fed92a3bb2caf48a876b366fe6568f5d6a49834f2b62c1ed appium-android-ime-2.0.0.tgz
npm unlock_apk 1.0.2 - 65343428596870194a5bd29241dc9182074b20e4cfdc7f392736f10fcbc6714c unlock_apk-1.0.2.tgz
npm io.appium.settings 5.12.0 - 94237813895e413eda00a3cd2fba0f2e2bc40412bef805c9e41ef4ae060bdec5 io.appium.settings-5.12.0.tgz
npm appium-uiautomator2-server 7.0.0 - 103752ab5486f85453829ac4d8c4b53b11d43a8833babdabfa7ab3c42c19b1c5 appium-uiautomator2-server-7.0.0.tgz
npm @sentry/cli-darwin 3.8.0 - 711d8d61e448b2e8a10c217acbfe206db7456e0072f041136e3bf7935fdf5cfa sentry-cli-darwin-3.8.0.tgz
npm @esbuild/win32-arm64 0.28.2 - b3cffeaa165134f7da679c8619266953afd5f41641a254615a57e757f67c7336 esbuild-win32-arm64-0.28.2.tgz
npm @esbuild/linux-x64 0.28.2 - 9573bb2233aab0f9ea7647d5cca9726113cc1768de61d66b17267f4db84488f6 esbuild-linux-x64-0.28.2.tgz
npm node-notifier 10.0.1 - 5e75d1bb41696f3334481ec083204335e519920d292855cb6afb6b0e2d9afe9b node-notifier-10.0.1.tgz
pypi shiboken6 6.11.3 win_amd64 1d38919492d08417b7579ad077bc81110d05183d21eb21d66316bc556140a8a3 shiboken6-6.11.3-cp310-abi3-win_amd64.whl
pypi shiboken6 6.11.3 win_arm64 28c826799dba54bbea95417130127b70e05ddcb0190f4d28e9da8fc8808bdc1b shiboken6-6.11.3-cp310-abi3-win_arm64.whl
pypi shiboken6 6.11.3 macosx_13_0_universal2 9287279112201e18a7820d29ce9dc4ceca4148c681f4189aff6f4cea652d43af shiboken6-6.11.3-cp310-abi3-macosx_13_0_universal2.whl
pypi shiboken6 6.11.3 manylinux_2_34_x86_64 e601c957011345c741b88f661a12486f478db881d6777bdf37e3dc7a8d3387c6 shiboken6-6.11.3-cp310-abi3-manylinux_2_34_x86_64.whl
pypi PySide6_Essentials 6.11.3 macosx_13_0_universal2 e153290e03ef5bae4b29c584db0193e14d291a21c32030f6953fe98879b3202c pyside6_essentials-6.11.3-cp310-abi3-macosx_13_0_universal2.whl
pypi mitmproxy_macos 0.11.5 any 8f7aaa646acc64ba4790a7f4d46cb9fbfd7cb0411b9b7a567db0404864bff28d mitmproxy_macos-0.11.5-py3-none-any.whl
pypi flet-desktop 0.28.2 macosx_12_0_arm64 ee9c9238ca4b3a251b3ade1b407c36eb5f800e5fb025c044f40441729d3f3037 flet_desktop-0.28.2-py3-none-macosx_12_0_arm64.whl
npm node-pty 1.1.0 - c7517f19083ddcb05f276904680eb2b11a6b5ecab778b8e4e5685a6d645b3f60 node-pty-1.1.0.tgz
npm @nativescript/core 9.1.2 - 29e2af6634027a63004c563c694fb0866ddd36ae80a483ab10b454fa64fccc23 nativescript-core-9.1.2.tgz
npm swagger-ui-dist 5.35.0 - 1b8e891893404ea4c3558b6a87e2a3e494e7eedba41168c2ece5800a391a6ea6 swagger-ui-dist-5.35.0.tgz
pypi msvc-runtime 14.44.35112 win32 438a584930820238141162ef9b92bd8099ccca62a67fa0ddef63ed88b8eb4e0d msvc_runtime-14.44.35112-cp311-cp311-win32.whl
pypi msvc-runtime 14.44.35112 win_amd64 aba7fbe71897d25ed53fbb7f391e9f50289378a8a9ae218ba18530c663448391 msvc_runtime-14.44.35112-cp311-cp311-win_amd64.whl
pypi msvc-runtime 14.44.35112 win_arm64 3a9c137951944fdc121377947bb4787dcd1007b505d7cf26f62d308d2b8df280 msvc_runtime-14.44.35112-cp311-cp311-win_arm64.whl
pypi tbb 2023.2.0 win_amd64 b39121cbdaff350fc61a448766cbb26807c523491d66e364838c9feeb3c6a0eb tbb-2023.2.0-py3-none-win_amd64.whl
LIST
}

fetch() {
  local from=$1 name=$2 version=$3 platform=$4
  if [ "$from" = npm ]; then
    (cd "$cache" && npm pack --silent "$name@$version" >/dev/null)
  else
    python3 -m pip download -q --no-deps --only-binary :all: --python-version 3.11 --platform "$platform" \
      --dest "$cache" "$name==$version"
  fi
}

while read -r from name version platform sum file; do
  for try in 1 2 3; do
    [ -f "$cache/$file" ] && break
    fetch "$from" "$name" "$version" "$platform" || echo "$file could not be fetched, try $try of 3" >&2
  done
  echo "$sum  $cache/$file" | sha256sum --check --quiet
  folder="$cache/${file%.*}"
  if [ ! -d "$folder" ]; then
    rm -rf "$folder.new" && mkdir "$folder.new"
    case "$file" in
      *.tgz) tar -xzf "$cache/$file" -C "$folder.new" ;;
      # Such a wheel may hold a tape archive in turn: a bundle cannot keep its links and rights otherwise.
      *.whl)
        python3 -m zipfile -e "$cache/$file" "$folder.new"
        find "$folder.new" -name '*.app.tar' -execdir tar -xf {} \;
        ;;
    esac
    mv "$folder.new" "$folder"
  fi
done < <(files)

LANTERN_REAL_FILES="$cache" cargo test --locked -p kind-lantern --features real-files --test real

# Packages, programs and bundles among them, signed with keys of ours: verified by our reader, by a verifier that has nothing in common with it, and by
# general tools for archives.
signed=$(mktemp -d)
trap 'rm -rf "$signed"' EXIT
LANTERN_REAL_FILES="$cache" LANTERN_SIGNED_FILES="$signed" cargo test --locked -p lantern-sign --features real-files --test real
python3 scripts/signatures.py "$signed"/*.apk "$signed"/*.jar "$signed"/*.exe
# Theirs first: the verifier has to hold for what others have signed.
python3 scripts/code_signatures.py --quiet "$cache"/sentry-cli-darwin-*/package/bin/sentry-cli \
  "$cache"/mitmproxy_macos-*/mitmproxy_macos/"Mitmproxy Redirector.app" "$signed/Flet.app"
python3 scripts/code_signatures.py --quiet "$signed"/*.macho "$signed"/*.signed/*.app "$signed"/*.signed/*.framework
for package in "$signed"/*.apk; do
  python3 -c 'import sys, zipfile; assert zipfile.ZipFile(sys.argv[1]).testzip() is None, sys.argv[1]' "$package"
done
