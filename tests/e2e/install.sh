#!/bin/sh
# Installs into a folder of its own, and builds a project against that with pkg-config and with CMake.
set -eu
build=$1
here=$(mktemp -d)
trap 'rm -r "$here"' EXIT
cmake --install "$build" --prefix "$here/usr" >/dev/null
"$here/usr/bin/bambino" cameras | grep -q ' 0 missing'
"$here/usr/bin/bambino" boards | grep -q 'microcontroller module with external RAM'

cat >"$here/main.c" <<'C'
#include <bambino/bambino.h>
#include <bambino/linux.h>
int main(void)
{
    bmb_linux *self;
    bmb_port port;
    return bmb_linux_create(&self, &port) == BMB_OK ? 0 : 1;
}
C
pc=$(find "$here/usr" -name bambino.pc)
# shellcheck disable=SC2046
cc "$here/main.c" -o "$here/by-pkg-config" $(PKG_CONFIG_PATH=$(dirname "$pc") pkg-config --define-variable=prefix="$here/usr" --cflags --libs bambino) ${BAMBINO_LINK_FLAGS:-}
"$here/by-pkg-config"
for example in "$2"/examples/*.c; do # and every example, as its README says
    # shellcheck disable=SC2046
    cc "$example" -o "$here/example" $(PKG_CONFIG_PATH=$(dirname "$pc") pkg-config --define-variable=prefix="$here/usr" --cflags --libs bambino) ${BAMBINO_LINK_FLAGS:-}
done

cat >"$here/CMakeLists.txt" <<'C'
cmake_minimum_required(VERSION 3.22)
project(user C)
find_package(bambino REQUIRED)
add_executable(user main.c)
target_link_libraries(user bambino::bambino_linux)
C
cmake -S "$here" -B "$here/build" -DCMAKE_PREFIX_PATH="$here/usr" >/dev/null
cmake --build "$here/build" >/dev/null
"$here/build/user"

# Without any encoder, the demo shows what needs none.
cmake -S "$2" -B "$here/bare" -DBAMBINO_JPEG=OFF -DBAMBINO_H264=OFF -DBAMBINO_TESTS=OFF -DBAMBINO_BENCH=OFF >/dev/null
cmake --build "$here/bare" --parallel 2 >/dev/null
cmake --install "$here/bare" --prefix "$here/without" >/dev/null
"$here/without/bin/bambino" demo --http 127.0.0.1:0 --rtsp 127.0.0.1:0 --tcp 127.0.0.1:0 --for 1 >"$here/out" 2>"$here/err"
grep -q 'camera "yard" is not served: this build has no JPEG encoder' "$here/err"
grep -qE 'loco: [1-9][0-9]* frames taken' "$here/out"
echo "1 passed, 0 failed"
