#!/bin/sh
# The command for a board with another processor, in Debian's emulator: what it has, what it refuses and how, and that it
# serves. Its size is bounded. tests/cross/test.sh
set -eu
cd "$(dirname "$0")/../.."
most=400 # KiB, without libraries
here=$(mktemp -d)
server=""
leave() {
    [ -z "$server" ] || kill "$server" 2>/dev/null || true
    rm -rf "$here"
}
trap leave EXIT
passed=0 failed=0
check() {
    what=$1
    shift
    if "$@" >"$here/said" 2>&1; then passed=$((passed + 1)); else failed=$((failed + 1)); echo "FAILED: $what"; sed 's/^/    /' "$here/said"; fi
}
not() { ! "$@"; }
says() { # a text, and a command that says it
    text=$1
    shift
    "$@" >"$here/text" 2>&1 || true
    grep -qF "$text" "$here/text" || { cat "$here/text"; false; }
}

scripts/cross aarch64-linux-gnu "" no
scripts/cross aarch64-linux-gnu "" yes >"$here/built"
cat "$here/built"
own=$(sed -n 's/.*Bambino takes \([0-9]*\) KiB.*/\1/p' "$here/built")
shared=$(aarch64-linux-gnu-size build/cross/aarch64-linux-gnu-shared/bambino | awk 'NR == 2 { print int(($1 + $2) / 1024) }') # without what fills pages
check "own part of one file: $own of $most KiB" test "$own" -lt $most
check "with the board's libraries: $shared of $most KiB" test "$shared" -lt $most
command="qemu-aarch64 build/cross/aarch64-linux-gnu/bambino"
check "it needs no library" not sh -c "aarch64-linux-gnu-readelf -d build/cross/aarch64-linux-gnu/bambino | grep NEEDED"
for part in TLS H.264 simulation announcements page check plots sheets manual measure; do check "its version says that there is no $part" says "$part: no" $command --version; done
check "it has JPEG" says "JPEG: yes" $command --version
check "no demo" says "this build has no simulated cameras" $command demo
check "no drawn camera" says 'camera "station" is missing: this build has no simulated cameras' $command run demo/railway.ini
check "no board" says "this build simulates no boards" $command boards
check "no receiver" says "this build has no measuring receiver" $command check rtsp://127.0.0.1/yard
printf '[https]\nlisten = 127.0.0.1:0\n' | cat demo/railway.ini - >"$here/tls.ini"
check "nothing encrypted" not $command run --check "$here/tls.ini"

# A camera that is a program: one JPEG image again and again.
python3 -c 'import sys; d = open("demo/loco.mjpeg", "rb").read(); sys.stdout.buffer.write(d[:d.index(b"\xff\xd9") + 2])' >"$here/one.jpg"
cat >"$here/c.ini" <<C
[http]
listen = 127.0.0.1:0
[rtsp]
listen = 127.0.0.1:0
[camera cab]
program = while cat '$here/one.jpg'; do sleep 0.1; done
shell = 1
[feed cab]
C
printf '[network]\nannounce = 1\n' | cat "$here/c.ini" - >"$here/announce.ini"
check "nothing announced" says "this build announces nothing" $command run --check "$here/announce.ini"
$command run "$here/c.ini" >"$here/out" 2>"$here/err" &
server=$!
for _ in $(seq 100); do grep -q "Ctrl-C stops" "$here/out" && break; sleep 0.1; done
http=$(grep -o 'http://127.0.0.1:[0-9]*' "$here/out" | head -n 1)
check "it prints whole addresses" test -n "$http"
check "it serves pictures" curl -sf --max-time 20 -o "$here/got.jpg" "$http/cab.jpg"
check "the picture is the camera's" cmp "$here/one.jpg" "$here/got.jpg"
check "where the page was, it says what there is" says "This build has no page" curl -s --compressed "$http/"
check "figures are there" says '"name": "cab"' sh -c "curl -s $http/status.json | python3 -m json.tool"
kill "$server"
status=0
wait "$server" || status=$?
server=""
check "it ends in good order" test $status = 0

# From its start to the first picture in a client, in instructions of its own: the emulator says each that it begins.
own=$(gcc -dumpmachine)
scripts/cross "$own" "" yes >/dev/null
printf '[http]\nlisten = 127.0.0.1:0\n[camera loco]\ninput = %s/demo/loco.mjpeg\n[feed loco]\n' "$PWD" >"$here/first.ini"
instructions() { # PROCESSOR TRIPLE
    rm -f "$here/trace"
    mkfifo "$here/trace"
    grep -c ^Trace <"$here/trace" >"$here/count" &
    counter=$!
    "qemu-$1" -singlestep -d exec,nochain -D "$here/trace" "build/cross/$2/bambino" run "$here/first.ini" >"$here/out" 2>"$here/err" &
    server=$!
    for _ in $(seq 300); do grep -q "Ctrl-C stops" "$here/out" && break; sleep 0.1; done
    curl -sf --max-time 60 -o /dev/null "$(grep -o 'http://127.0.0.1:[0-9]*' "$here/out" | head -n 1)/loco.jpg" || echo "no picture" >&2
    kill -9 "$server"
    wait "$server" 2>/dev/null || true
    server=""
    wait "$counter"
    cat "$here/count"
}
here_it_takes=$(instructions "${own%%-*}" "$own") there=$(instructions aarch64 aarch64-linux-gnu)
echo "To the first picture: $there instructions, on this machine's processor $here_it_takes"
check "they were counted" test "$here_it_takes" -gt 100000 -a "$there" -gt 100000
check "no more than 1.5 times as many as here" test $((there * 2)) -le $((here_it_takes * 3))
echo "$passed passed, $failed failed"
[ $failed = 0 ]
