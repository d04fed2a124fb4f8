#!/bin/bash
# From a bare board to a device that starts by itself, on simulated boards: every fault from outside, budgets, time-lapse
# under power cuts, the service. bringup.sh PATH-OF-BAMBINO
set -u
bambino=$1
source=$(cd "$(dirname "$0")/../.." && pwd)
here=$(mktemp -d)
trap 'kill $(jobs -p) 2>/dev/null; wait 2>/dev/null; rm -r "$here"' EXIT
passed=0 failed=0
check() {
    if [ "$2" = "$3" ]; then passed=$((passed + 1)); else failed=$((failed + 1)); echo "FAILED: $1: expected $3, got $2"; fi
}
says() { # WHAT FILE TEXT
    if grep -qF -- "$3" "$2"; then passed=$((passed + 1)); else failed=$((failed + 1)); echo "FAILED: $1: no \"$3\" in:"; cat "$2"; fi
}
cp "$source/demo/siding.ini" "$here/"
cp "$source/demo/siding-secrets.ini" "$here/" && chmod 600 "$here/siding-secrets.ini"
anywhere="--http 127.0.0.1:0 --rtsp 127.0.0.1:0"

# Each fault: from the start until 1.5 s, and in the middle of a stream from 1.5 to 3 s. It names cause and remedy, and
# the device comes back by itself. All at once.
declare -A told=(
    [ribbon]="Seat the ribbon with its contacts"
    [wiring]="This board is wired as \"siding-a\""
    [other-sensor]="answers with the ID 0xB8ED, expected is 0xB7E2"
    [no-ssid]="Set ssid in [network]"
    [no-passphrase]="Set passphrase in the secrets file"
    [wrong-passphrase]="Correct passphrase in the secrets file"
    [unknown-ssid]="no network of this name is in reach"
    [storage-full]="storage: full"
    [clock-unset]="clock: never set"
    [hanging-camera]="it hangs, no picture comes"
)
declare -A over=(
    [ribbon]="camera: answers again" [wiring]="camera: answers again" [other-sensor]="camera: answers again"
    [no-ssid]="network: up again" [no-passphrase]="network: up again" [wrong-passphrase]="network: up again"
    [unknown-ssid]="network: up again"
    [storage-full]="storage: there is room again" [clock-unset]="clock: set" [hanging-camera]="camera: answers again"
)
jobs=()
for fault in "${!told[@]}"; do
    for when in 0-1.5 1.5-3; do
        # shellcheck disable=SC2086
        "$bambino" run "$here/siding.ini" $anywhere --fault "$fault@$when" --for 8 >"$here/$fault@$when" 2>"$here/$fault@$when.log" &
        jobs+=("$!:$fault:$when")
    done
done
for job in "${jobs[@]}"; do
    IFS=: read -r pid fault when <<<"$job"
    wait "$pid"
    check "$fault@$when ends as asked" $? 0
    says "$fault@$when" "$here/$fault@$when" "${told[$fault]}"
    [ "$fault@$when" = clock-unset@0-1.5 ] || says "$fault@$when goes away" "$here/$fault@$when" "${over[$fault]}"
    says "$fault@$when prints whole addresses in the end" "$here/$fault@$when" "/yard.mjpeg"
    # 8 s at 15 pictures, less the fault, the pause before the next try, and what was dropped for the bit rate
    taken=$(sed -n 's/.*yard: \([0-9]*\) frames taken.*/\1/p' "$here/$fault@$when")
    [ "${taken:-0}" -gt 40 ]; check "$fault@$when comes back ($taken pictures)" $? 0
    case $fault in ribbon) says "$fault in the log" "$here/$fault@$when.log" "Seat the ribbon" ;; esac
done

# What RTP cannot carry gets no address that answers 415.
sed 's/^size = 640x480/size = 240x180/' "$here/siding.ini" >"$here/small.ini"
# shellcheck disable=SC2086
"$bambino" run "$here/small.ini" $anywhere --for 0.5 >"$here/small" 2>/dev/null
check "240x180 ends as asked" $? 0
says "240x180 says why" "$here/small" "no rtsp:// address"
check "240x180 has no RTSP address" "$(grep -c 'rtsp://127' "$here/small")" 0

# The lamp of a simulated board shows what status-light asks for.
for style in viewed off; do
    { cat "$here/siding.ini"; printf '\n[device]\nstatus-light = %s\n' $style; } >"$here/lamp.ini"
    # shellcheck disable=SC2086
    "$bambino" run "$here/lamp.ini" $anywhere --for 0.5 >"$here/lamp" 2>/dev/null
    check "status-light = $style: it does not flash" "$(grep -c 'light: flashes' "$here/lamp")" 0
done
says "status-light = off" "$here/lamp" "light: is dark (off)"

# What a connection took arrives although it closes behind its answer: two devices at once, each over a radio of its own.
# shellcheck disable=SC2086
"$bambino" run "$here/siding.ini" $anywhere --for 12 >"$here/one" 2>/dev/null & one=$!
# shellcheck disable=SC2086
"$bambino" run "$here/siding.ini" $anywhere --for 12 >"$here/two" 2>/dev/null & two=$!
for board in one two; do
    for _ in $(seq 50); do grep -q Ctrl-C "$here/$board" && break; sleep 0.1; done
    base=$(grep -o 'http://127[^ ]*/yard.mjpeg' "$here/$board" | head -1); base=${base%yard.mjpeg}
    for path in yard.jpg yard-240x180.jpg status.json page.css ""; do
        for _ in 1 2 3; do
            curl -s --max-time 4 -H 'Connection: close' -D "$here/head" -o "$here/body" "$base$path"; status=$?
            [ "$path" = yard-240x180.jpg ] && sleep 1.1 # at most one a second
            [ $status = 0 ] && [ -s "$here/body" ] && break # a drop-out of the radio may come between
        done
        check "/$path of $board arrives" $status 0
        case $path in
        *.jpg) check "/$path of $board is whole" "$(tail -c 2 "$here/body" | od -An -tx1 | tr -d ' ')" ffd9 ;;
        status.json) python3 -m json.tool "$here/body" >/dev/null; check "/$path of $board is whole" $? 0 ;;
        esac
    done
done
wait $one; wait $two

# A supply that is too weak gives way when somebody watches.
# shellcheck disable=SC2086
"$bambino" run "$here/siding.ini" $anywhere --fault weak-supply@0-4 --for 9 >"$here/weak" 2>/dev/null & weak=$!
for _ in $(seq 50); do grep -q Ctrl-C "$here/weak" && break; sleep 0.1; done
url=$(grep -o 'http://[^ ]*/yard.mjpeg' "$here/weak" | head -1)
for _ in 1 2 3; do curl -s --max-time 2.5 -o /dev/null "$url"; done
wait $weak
says "a weak supply" "$here/weak" "fell below its least voltage under load, the board resets"
says "starts again" "$here/weak" "start: after a reset"
says "a better supply" "$here/weak" "supply: steady again"
"$bambino" run "$here/siding.ini" $anywhere --fault no-external-ram --for 1 >"$here/out" 2>&1
check "without its RAM the board does not start" $? 1
says "RAM" "$here/out" "the external 6144 KiB do not answer"
says "RAM" "$here/out" "are missing"
sed 's/^ssid = valley-club//' "$here/siding.ini" >"$here/unnamed.ini"
# shellcheck disable=SC2086
"$bambino" run "$here/unnamed.ini" $anywhere --for 0.5 >"$here/out" 2>&1
says "no name at all" "$here/out" "no SSID is set, so no network is looked for"
"$bambino" run "$here/siding.ini" --board sidling >"$here/out" 2>&1
says "a board that is not there" "$here/out" 'there is no board "sidling"; did you mean siding?'
"$bambino" run "$here/siding.ini" --fault ribon >"$here/out" 2>&1
says "a fault that is not there" "$here/out" "did you mean ribbon?"
printf '[board]\nname = x\nram-internal = many\n' >"$here/x.ini"
"$bambino" run "$here/siding.ini" --board "$here/x.ini" >"$here/out" 2>&1
says "a wrong description" "$here/out" "ram-internal = many: a number is expected"

# Modes that the board does not have.
for row in "size = 641x481|has no size 641x481; the nearest is 640x480" "rate = 60|gives at most 30/s at 640x480" \
    "rotate = 90|the nearest is 180" "sharpness = 3|has no control \"sharpness\"" "brightness = 30|in steps of 20; the nearest is 40"; do
    key=${row%% *} line=${row%%|*}
    grep -v "^$key = " "$here/siding.ini" >"$here/mode.ini"
    echo "$line" >>"$here/mode.ini" # the feed's section is the last one
    "$bambino" run "$here/mode.ini" --check >"$here/out" 2>&1
    check "${row%%|*} is refused" $? 1
    says "${row%%|*}" "$here/out" "${row##*|}"
done

"$bambino" run "$source/demo/railway.ini" --board siding --check >"$here/out" 2>&1; check "two cameras on one connector" $? 1
says "two cameras on one connector" "$here/out" "takes 1 camera at a time, the configuration has 2: station, yard"
"$bambino" photo yard --config "$here/siding.ini" --set rotate=180,brightness=40 --size 480x360 --out "$here/photo.jpg" >"$here/out"
check "a picture with controls of its own" $? 0
for row in "brightness=55|has -100 to 100 in steps of 20" "brigthness=50|did you mean brightness?" "sharpness=1|has no such control" "x|CONTROL=VALUE is expected"; do
    "$bambino" photo yard --config "$here/siding.ini" --set "${row%%|*}" --out "$here/photo.jpg" >"$here/out" 2>&1
    check "${row%%|*}" $? 2
    says "${row%%|*}" "$here/out" "${row##*|}"
done

# What fits, and exactly so.
"$bambino" budget "$here/siding.ini" >"$here/budget"; check "the demo's module fits" $? 0
says "the budget" "$here/budget" "fits"
total=$("$bambino" budget "$here/siding.ini" --json | python3 -c 'import json,sys; print(json.load(sys.stdin)["memory"]["total"])')
sed "s/^viewers = 3/&\nmemory = $total/" "$here/siding.ini" >"$here/exact.ini"
# shellcheck disable=SC2086
"$bambino" run "$here/exact.ini" $anywhere --for 0.3 >/dev/null 2>"$here/out"; check "exactly the bytes of the budget" $? 0
sed -i "s/^memory = .*/memory = $((total - 1))/" "$here/exact.ini"
# shellcheck disable=SC2086
"$bambino" run "$here/exact.ini" $anywhere --for 0.3 >/dev/null 2>"$here/out"; check "one byte less" $? 1
says "one byte less" "$here/out" " 1 are missing"
sed 's/^viewers = 3/viewers = 40/' "$here/siding.ini" >"$here/many.ini"
"$bambino" budget "$here/many.ini" >"$here/budget"; check "forty viewers do not fit" $? 1
says "forty viewers" "$here/budget" "DOES NOT FIT"
best=$(sed -n 's/^  viewers = //p' "$here/budget")
sed "s/^viewers = 3/viewers = $best/" "$here/siding.ini" >"$here/best.ini"
"$bambino" budget "$here/best.ini" >/dev/null; check "the largest number that is named does fit" $? 0
sed "s/^viewers = 3/viewers = $((best + 1))/" "$here/siding.ini" >"$here/best.ini"
"$bambino" budget "$here/best.ini" >/dev/null; check "and one more does not" $? 1
sed 's/^flash = .*/flash = 100K/' "$(dirname "$0")/../../ports/sim/boards/siding.ini" >"$here/little.ini"
sed 's/^board = .*/board = little.ini/' "$here/siding.ini" >"$here/large.ini"
"$bambino" budget "$here/large.ini" >"$here/budget"; check "a program larger than the flash does not fit" $? 1
says "the flash" "$here/budget" "of 102,400 bytes: DOES NOT FIT"
"$bambino" budget "$here/siding.ini" --preview yard --out "$here/sheet.png" >"$here/out"; check "the contact sheet" $? 0
check "its kind" "$(head -c 8 "$here/sheet.png" | od -An -tx1 | tr -d ' ')" 89504e470d0a1a0a
check "its qualities" "$(grep -cE '^ +[0-9]+ +[0-9]+ +[0-9]+$' "$here/out")" 8
"$bambino" run "$here/siding.ini" --check >"$here/out"; check "checked" $? 0
says "checked" "$here/out" "is fine: 1 feed"

# Secrets are for their owner, and are never printed.
chmod 644 "$here/siding-secrets.ini"
"$bambino" run "$here/siding.ini" --check >/dev/null; check "the simulated network's passphrase is none" $? 0
sed -i 's/four red/five red/' "$here/siding-secrets.ini"
"$bambino" run "$here/siding.ini" --check >"$here/out" 2>&1; check "secrets that others may read" $? 2
says "secrets" "$here/out" "chmod 600"
sed "s/^board = .*//" "$here/siding.ini" >"$here/real.ini"
sed -i 's/five red/four red/' "$here/siding-secrets.ini"
"$bambino" run "$here/real.ini" --check >"$here/out" 2>&1; check "without a simulated board every secret is one" $? 2
if [ "$(id -u)" = 0 ]; then
    chmod 600 "$here/siding-secrets.ini"; chown 12345 "$here/siding-secrets.ini"
    "$bambino" run "$here/real.ini" --check >"$here/out" 2>&1; check "another user's secrets" $? 2
    says "another user's secrets" "$here/out" "it belongs to another user"
    chown 0 "$here/siding-secrets.ini"
fi
mkfifo "$here/pipe"
sed "s/^secrets = .*/secrets = pipe/" "$here/siding.ini" >"$here/piped.ini"
timeout 5 "$bambino" run "$here/piped.ini" --check >"$here/out" 2>&1; check "a named pipe instead of secrets" $? 2
says "a named pipe" "$here/out" "that is no file with secrets"
"$bambino" budget "$here/siding.ini" >/dev/null; check "a budget needs no secrets" $? 0
chmod 600 "$here/siding-secrets.ini"
grep -rqF "four red coaches" "$here" --include='*@*' --include=out --include=weak --include=budget; check "a secret that was printed" $? 1

# The light, and controls over restarts.
: >"$here/light"
sed "s/^viewers = 3/&\nlight-file = ${here//\//\\/}\/light\nstate = kept/" "$here/siding.ini" >"$here/light.ini"
printf '[tcp all]\nlisten = 127.0.0.1:0\nformat = framed\n' >>"$here/light.ini"
# shellcheck disable=SC2086
"$bambino" run "$here/light.ini" $anywhere --for 5 >"$here/out" 2>"$here/log" & device=$!
for _ in $(seq 50); do grep -q Ctrl-C "$here/out" && break; sleep 0.1; done
port=$(grep -o 'tcp://127.0.0.1:[0-9]*' "$here/out" | grep -o '[0-9]*$')
python3 "$source/examples/framed_viewer.py" "127.0.0.1:$port" yard --frames 3 --set flip-v=1 >"$here/answer"
says "a control that is set" "$here/answer" "flip-v = 1: done; in force: 1"
wait $device
[ "$(wc -l <"$here/light")" -ge 3 ]; check "the light blinks" $? 0
# shellcheck disable=SC2086
"$bambino" run "$here/light.ini" $anywhere --for 0.5 >/dev/null 2>"$here/log"
says "after the restart" "$here/log" "1 controls are as they were set last"
rm "$here/light" && mkfifo "$here/light"
# shellcheck disable=SC2086
timeout 5 "$bambino" run "$here/light.ini" $anywhere --for 0.5 >"$here/out" 2>&1; check "a light that nobody looks at" $? 1
says "a light that nobody looks at" "$here/out" "it cannot be written"

# Time-lapse: whole files, numbers that go on, a full storage.
mkdir "$here/pictures"
"$bambino" lapse yard --every 0.2 --count 3 --size 320x240 --out "$here/pictures/{camera}-{number}.jpg" >"$here/out"; check "lapse" $? 0
says "progress" "$here/out" "3 of 3: $here/pictures/yard-000003.jpg"
"$bambino" lapse yard --every 10 --out "$here/pictures/always.jpg" >"$here/out" 2>&1; check "one name for all" $? 1
says "one name for all" "$here/out" "put {number} into it"
"$bambino" lapse yard --every 0.2 --count 9 --size 480x360 --config "$here/siding.ini" --fault storage-full@0.7 \
    --out "$here/pictures/full-{number}.jpg" >"$here/out" 2>&1
check "a full storage" $? 1
says "a full storage" "$here/out" "the storage is full after"
mkdir "$here/cut"
for _ in $(seq 60); do
    "$bambino" lapse yard --every 0.05 --size 160x120 --out "$here/cut/yard-{number}.jpg" >/dev/null 2>&1 & victim=$!
    sleep "0.$(printf '%03d' $((RANDOM % 140)))"
    kill -9 $victim; wait $victim 2>/dev/null
done
python3 - "$here/cut" <<'P'
import os, sys
names = sorted(n for n in os.listdir(sys.argv[1]) if not n.endswith(".part"))
half = [n for n in names if not (d := open(f"{sys.argv[1]}/{n}", "rb").read()).startswith(b"\xff\xd8") or not d.endswith(b"\xff\xd9")]
numbers = [int(n[5:11]) for n in names]
print(f"{len(names)} pictures over 60 power cuts, {len(half)} of them half, numbers 1 to {max(numbers)}")
sys.exit(0 if not half and numbers == list(range(1, len(names) + 1)) and len(names) > 30 else 1)
P
check "power cuts" $? 0

# The service: its unit, and the protocol that it is started by.
"$bambino" service install "$here/siding.ini" --root "$here/root" >/dev/null 2>&1; check "no such folder" $? 1
mkdir -p "$here/root/etc/systemd/system"
"$bambino" service install "$here/siding.ini" --root "$here/root" >"$here/out"; check "installed" $? 0
"$bambino" service show --root "$here/root" >"$here/unit"; check "shown" $? 0
for line in Type=notify WatchdogSec=20 DynamicUser=yes NoNewPrivileges=yes Restart=always; do says "the unit" "$here/unit" "$line"; done
echo "bambino:x:998:998::/nonexistent:/usr/sbin/nologin" >"$here/root/etc/passwd"
"$bambino" service install "$here/siding.ini" --root "$here/root" >/dev/null; check "installed where the package is" $? 0
grep -q '^User=bambino$' "$here/root/etc/systemd/system/bambino.service"; check "it runs as the package's user" $? 0
rm "$here/root/etc/passwd"
if command -v systemd-analyze >/dev/null && cp "$here/unit" "$here/bambino.service"; then
    # systemd's own analysis of what the service could do if it were taken over: 0 nothing, 10 everything.
    exposure=$(systemd-analyze security --offline=true --no-pager "$here/bambino.service" 2>/dev/null | sed -n 's/.*exposure level.*: \([0-9]*\)\.\([0-9]\).*/\1\2/p')
    check "what the service leaves open (${exposure:-not told} tenths)" "$([ "${exposure:-99}" -le 16 ] && echo little)" little
fi
says "its secrets" "$here/unit" "LoadCredential=bambino-secrets:$here/siding-secrets.ini"
mkdir "$here/handed" && mv "$here/siding-secrets.ini" "$here/handed/bambino-secrets"
CREDENTIALS_DIRECTORY=$here/handed "$bambino" run "$here/siding.ini" --check >/dev/null; check "secrets that are handed over" $? 0
mv "$here/handed/bambino-secrets" "$here/siding-secrets.ini"
command=$(sed -n 's/^ExecStart=//p' "$here/unit")
cat >"$here/manager.py" <<'P'
"""Starts the unit's command as the service manager does, and listens."""
import os, shlex, socket, subprocess, sys, time
path, seconds, command, expect_silence = sys.argv[1], float(sys.argv[2]), shlex.split(sys.argv[3]), sys.argv[4] == "hang"
s = socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM)
s.bind(path)
s.settimeout(0.2)
child = subprocess.Popen(command, env={**os.environ, "NOTIFY_SOCKET": path, "WATCHDOG_USEC": "1000000"}, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
begin, heard = time.time(), []
while time.time() - begin < seconds:
    try:
        heard.append((time.time() - begin, s.recv(256).decode()))
    except TimeoutError:
        pass
child.terminate()
child.wait()
s.settimeout(0.5)
try:
    heard.append((time.time() - begin, s.recv(256).decode()))
except TimeoutError:
    pass
dogs = [at for at, text in heard if text == "WATCHDOG=1"]
ready = [at for at, text in heard if text.startswith("READY=1")]
print(f"ready after {ready[0]:.1f} s, {len(dogs)} signs of life, the last after {dogs[-1]:.1f} s, then {heard[-1][1]}")
good = ready and ready[0] < 3 and heard[-1][1] == "STOPPING=1" and child.returncode == 0
gaps = max(b - a for a, b in zip(dogs, dogs[1:]))
good = good and (dogs[-1] < 14.5 if expect_silence else gaps < 3.0)
sys.exit(0 if good else 1)
P
# shellcheck disable=SC2086
python3 "$here/manager.py" "$here/n1" 5 "$command $anywhere" well & one=$!
# shellcheck disable=SC2086
python3 "$here/manager.py" "$here/n2" 18 "$command $anywhere --fault hanging-camera@1" hang & two=$!
wait $one; check "the notify protocol" $? 0
wait $two; check "a camera that hangs ends the signs of life" $? 0
mkdir "$here/new
line" && cp "$here/siding.ini" "$here/siding-secrets.ini" "$here/new
line/"
"$bambino" service write "$here/new
line/siding.ini" >"$here/out" 2>&1; check "a line end in a path" $? 2
says "a line end in a path" "$here/out" "has a control character in it"
"$bambino" service remove --root "$here/root" >/dev/null; check "removed" $? 0
"$bambino" service show --root "$here/root" >/dev/null 2>&1; check "gone" $? 1
echo "$passed passed, $failed failed"
[ $failed = 0 ]
