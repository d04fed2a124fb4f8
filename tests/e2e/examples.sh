#!/usr/bin/env bash
# Every example does what examples/README.md says. examples.sh FOLDER: where they are built.
set -euo pipefail
bin=$1
source=$(cd "$(dirname "$0")/../.." && pwd)
work=$(mktemp -d)
started=()
cleanup() {
    for pid in "${started[@]}"; do kill "$pid" 2>/dev/null || true; done
    rm -rf "$work"
}
trap cleanup EXIT
fail() {
    echo "$1" >&2
    cat "$work/out" "$work/err" >&2
    exit 1
}
# Starts an example, and sets $at to its address on the loopback interface.
begin() {
    "$bin/example_$1" "${@:2}" >"$work/out" 2>"$work/err" &
    pid=$!
    started+=("$pid")
    for _ in $(seq 100); do
        # A line that is half written would give half of a port.
        at=
        [ -z "$(tail -c 1 "$work/out")" ] && at=$(sed -n 's|^[a-z]*://\(127\.0\.0\.1:[0-9]*\).*|\1|p' "$work/out" | head -n 1)
        [ -n "$at" ] && return
        sleep 0.1
    done
    fail "$1 printed no address"
}
finish() { # it ends in good order when asked to
    kill -TERM "$pid"
    wait "$pid" || fail "$1 ended with status $?"
}
size_of() { # of a picture at an address
    curl -sf --retry 5 --retry-all-errors --max-time 20 -o "$work/picture.jpg" "http://$at/$1" || fail "no $1"
    ffprobe -v error -show_entries stream=width,height -of csv=p=0 "$work/picture.jpg"
}
moves() { # many pictures come, and are not all the same
    timeout 20 ffmpeg -v error -i "$1" -frames:v 8 -f framemd5 - 2>"$work/err" | grep -v '^#' | awk '{print $NF}' >"$work/sums" || true
    [ "$(sort -u "$work/sums" | wc -l)" -ge 3 ] || fail "$1 stands still"
}

begin smallest 0
[ "$(size_of yard.jpg)" = 640,480 ] || fail "smallest: another size"
moves "http://$at/yard.mjpeg"
finish smallest

begin settings 0
[ "$(curl -s -X PATCH -d 5 "http://$at/rate")" = "5 pictures a second" ] || fail "settings: the rate is another"
[ "$(curl -s -o /dev/null -w '%{http_code}' -X PATCH -d 0 "http://$at/rate")" = 422 ] || fail "settings: no rate at all is taken"
[ "$(curl -s "http://$at/rate")" = "5 pictures a second" ] || fail "settings: what was refused counts"
finish settings

begin real_camera 0 0 "no such camera" # absent: it says so, serves, and waits for it
grep -q "no camera matches no such camera; plug it in" "$work/err" || fail "real_camera: says nothing"
[ "$(curl -s -o "$work/none" -w '%{http_code}' --max-time 9 "http://$at/front.jpg")" = 503 ] || fail "real_camera: no 503"
finish real_camera

if "$bin/bambino" --version | grep -q "TLS: yes"; then
    begin encrypted "$work/keys" 0
    [ "$(curl -sk --retry 5 --retry-all-errors --max-time 20 -o /dev/null -w '%{http_code}' "https://$at/yard.jpg")" = 200 ] || fail "encrypted: no picture"
    shown=$(openssl s_client -connect "$at" </dev/null 2>/dev/null | openssl x509 -noout -sha256 -fingerprint)
    grep -q "certificate ${shown#*=}" "$work/out" || fail "encrypted: another certificate than was printed"
    finish encrypted
fi

begin other_system "$source/demo/loco.mjpeg" 0 60
[ "$(size_of loco.jpg)" = 320,240 ] || fail "other_system: another size"
moves "http://$at/loco.mjpeg"
kill "$pid"
"$bin/example_other_system" 2>/dev/null && fail "other_system: no file is no fault"

begin own_camera "$source/demo/loco.mjpeg" 0
[ "$(size_of cab.jpg)" = 320,240 ] || fail "own_camera: another size"
moves "http://$at/cab.mjpeg"
finish own_camera
"$bin/example_own_camera" 2>/dev/null && fail "own_camera: no file is no fault"

if [ -x "$bin/example_own_encoder" ]; then
    begin own_encoder 0
    moves "rtsp://$at/bar"
    finish own_encoder
fi

begin several_feeds 0
[ "$(size_of cab.jpg)" = 320,240 ] || fail "several_feeds: another size"
[ "$(size_of yard-1280x720.jpg)" = 1280,720 ] || fail "several_feeds: no larger still"
finish several_feeds

begin controls 0 3
wait "$pid" || fail "controls failed"
for line in 'event: feed "yard": camera started' 'flip-v: 1 asked, 1 in force, ok' 'brightness: 4000 asked, -40 in force'; do
    grep -q "$line" "$work/out" || fail "controls: no \"$line\""
done

begin static_memory 0
[ "$(size_of cab.jpg)" = 320,240 ] || fail "static_memory: another size"
finish static_memory
read -r used _ most _ < <(grep ' bytes: ' "$work/out")
[ "$used" -gt 70000 ] && [ "$used" -lt "$most" ] || fail "static_memory: $used of $most"

mkfifo "$work/input"
"$bin/example_own_loop" 0 <"$work/input" >"$work/out" 2>"$work/err" &
pid=$!
started+=("$pid")
exec 3>"$work/input"
for _ in $(seq 100); do
    at=$(sed -n 's|^http://\(127\.0\.0\.1:[0-9]*\)/yard.mjpeg|\1|p' "$work/out")
    [ -n "$at" ] && break
    sleep 0.1
done
[ "$(size_of yard.jpg)" = 640,480 ] || fail "own_loop: another size"
curl -s -o /dev/null "http://$at/yard.mjpeg" 3>&- & # which must not hold the input open
started+=($!)
for _ in $(seq 50); do
    echo '?' >&3
    sleep 0.2
    grep -q '^1 watching' "$work/out" && break
done
grep -q '^1 watching, [1-9]' "$work/out" || fail "own_loop: nobody watches"
exec 3>&-
wait "$pid" || fail "own_loop ended with status $?"

if [ -x "$bin/example_own_encoder" ]; then
    port=$((20000 + RANDOM % 20000))
    "$bin/example_push" "udp://127.0.0.1:$port" 20 >"$work/out" 2>"$work/err" &
    pid=$!
    started+=("$pid")
    moves "udp://127.0.0.1:$port?timeout=15000000"
    finish push
    grep -q '^[1-9][0-9]* frames' "$work/out" || fail "push: nothing was sent"
fi
"$bin/example_push" 2>/dev/null && fail "push: no destination is no fault"
for file in "$source"/examples/*.c; do
    [ "$(wc -l <"$file")" -lt 80 ] || fail "$file is long"
    grep -q "$(basename "$file")" "$source/examples/README.md" || fail "$file is not in the README"
done
echo "all examples do what they say"
