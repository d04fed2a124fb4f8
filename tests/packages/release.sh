#!/bin/sh
# A release, twice: the same bytes, and sources from which the command builds as another user would. In a copy of its own,
# so that a tree with changes can be tested. Leaves its packages in FOLDER.
#   release.sh FOLDER
set -eu
folder=$(realpath -m "$1")
cd "$(dirname "$0")/../.."
copy=$(mktemp -d)
out=$copy/out
trap 'rm -r "$copy"' EXIT
passed=0 failed=0
check() { what=$1; shift; if "$@" >"$copy/said" 2>&1; then passed=$((passed + 1)); else failed=$((failed + 1)); echo "failed: $what"; cat "$copy/said"; fi; }
scripts/tree "$copy/clone"
commit() { git -C "$copy/clone" -c user.name=Test -c user.email=test@bambino.example commit -q --allow-empty -m "$1"; }
git -C "$copy/clone" -c init.defaultBranch=main init -q
git -C "$copy/clone" add -A
commit "before"
commit "as it is"
mkdir -p "$copy/clone/build"
for f in sources roots release; do [ ! -e "build/$f" ] || ln -s "$PWD/build/$f" "$copy/clone/build/$f"; done
version=$(sed -n 's/^#define BMB_VERSION "\(.*\)"$/\1/p' include/bambino/version.h)
own=$(dpkg --print-architecture)

not() { ! "$@"; }
cd "$copy/clone"
check "a release" scripts/release "$out" "$own"
mv "$out" "$copy/first"
check "and again" scripts/release "$out" "$own"
check "the same bytes" diff -r "$copy/first" "$out"
check "checksums that hold" sh -c "cd '$out' && sha256sum --quiet --check SHA256SUMS"
check "all of it has one" sh -c "cd '$out' && [ \"\$(ls | wc -l)\" = \$((\$(wc -l <SHA256SUMS) + 1)) ]"
echo "// " >>examples/smallest.c
check "what is not committed is refused" sh -c "! scripts/release '$copy/none' 2>'$copy/said.of' && grep -q 'commit first' '$copy/said.of'"
git checkout -q examples/smallest.c
git tag "v$version" HEAD~1
check "a version that is out already is refused" sh -c "! scripts/release '$copy/none' 2>'$copy/said.of' && grep -q 'is another commit' '$copy/said.of'"
sed -i 's/bmb_outlet_addr(/bmb_outlet_address(/' include/bambino/device.h src/device/*.c ports/*/*.c cli/*.c
check "a public function that goes is told" sh -c "! scripts/abi >'$copy/said.of' 2>&1 && grep -q 'bmb_outlet_addr' '$copy/said.of'"
sed -i 's/"0\.1\./"0.2./' include/bambino/version.h
check "and is fine where the version says so" scripts/abi

mkdir "$copy/unpacked"
tar -C "$copy/unpacked" -xf "$out/bambino-$version.tar.xz"
check "its sources build, without git" sh -c "cd '$copy/unpacked/bambino-$version' && cmake -S . -B build/own -DCMAKE_BUILD_TYPE=Release -DBAMBINO_TESTS=OFF -DBAMBINO_BENCH=OFF && cmake --build build/own --parallel $(nproc) >'$copy/said.built' 2>&1 || { cat '$copy/said.built'; false; }"
check "without a warning" not grep -q warning: "$copy/said.built"
check "into a command that says its version" sh -c "[ \"\$('$copy/unpacked/bambino-$version/build/own/bambino' --version | head -n 1)\" = 'bambino $version' ]"
mkdir -p "$folder"
rm -f "$folder"/*.deb
cp "$out"/*.deb "$folder/"
echo "$passed passed, $failed failed"
[ "$failed" = 0 ]
