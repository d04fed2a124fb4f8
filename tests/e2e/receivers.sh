#!/bin/bash
# Independent receivers of what is pushed and of plain TCP outlets, all at once, in a network namespace of its own; the
# strip in each picture proves what arrived. receivers.sh PATH-OF-BAMBINO PATH-OF-READ_STRIP
set -u
if [ "${3:-}" != inside ]; then
    unshare --net true 2>/dev/null || { echo "network namespaces are not permitted here: skipped"; exit 77; }
    exec unshare --net "$0" "$1" "$2" inside
fi
source=$(cd "$(dirname "$0")/../.." && pwd)
here=$(mktemp -d)
server=
trap '[ -z "$server" ] || kill $server 2>/dev/null; wait; rm -r "$here"' EXIT
# A cable of its own: on the loopback interface each multicast packet would arrive twice.
ip link set lo up
ip link add cable type veth peer name end
ip addr add 192.0.2.1/24 dev cable && ip link set cable up && ip link set end up
passed=0 failed=0
check() {
    if [ "$2" = "$3" ]; then passed=$((passed + 1)); else failed=$((failed + 1)); echo "FAILED: $1: expected $3, got $2"; fi
}
cat >"$here/all.ini" <<P
[http]
listen = 127.0.0.1:8080
[camera station]
source = drawn
view = station
codec = h264
[feed station]
size = 640x360
rate = 30
kbps = 1500
key-ms = 1000
[camera yard]
source = drawn
view = yard
[feed yard]
size = 320x240
rate = 15
[tcp station]
listen = 127.0.0.1:8601
[tcp stream]
listen = 127.0.0.1:8602
feed = station
format = ts
[tcp yard]
listen = 127.0.0.1:8603
[push ts-a]
feed = station
to = udp://127.0.0.1:5010
[push ts-b]
feed = station
to = udp://127.0.0.1:5012
[push group]
feed = station
to = udp://239.255.7.7:5014
interface = 192.0.2.1
ttl = 2
[push everybody]
feed = station
to = udp://192.0.2.255:5016
[push rtp-a]
feed = station
to = udp://127.0.0.1:5020
format = rtp
sdp = $here/a.sdp
[push rtp-b]
feed = station
to = udp://127.0.0.1:5022
format = rtp
sdp = $here/b.sdp
[push jpeg]
feed = yard
to = udp://127.0.0.1:5024
sdp = $here/jpeg.sdp
[push connect]
feed = station
to = tcp://127.0.0.1:5030
P
luma="-fps_mode passthrough -f rawvideo -pix_fmt gray -"
quick="-v error -fflags nobuffer -probesize 200000 -analyzeduration 500000"
gray="videoconvert ! video/x-raw,format=GRAY8 ! fdsink fd=1"
read_strip=$2
jobs=()
# Whatever a decoder says goes to a file of its own; its pictures to the reader of strips.
decode() {
    local name=$1 width=$2 height=$3 count=$4
    shift 4
    timeout 120 "$@" 2>"$here/$name.err" | "$read_strip" "$width" "$height" "$count" >"$here/$name.strip"
    return "${PIPESTATUS[1]}"
}
receive() {
    decode "$@" &
    jobs+=("$!:$1")
}
# shellcheck disable=SC2086
{
receive ffmpeg-ts-udp 640 360 300 ffmpeg $quick -i "udp://127.0.0.1:5010" $luma
receive gstreamer-ts-udp 640 360 300 gst-launch-1.0 -q udpsrc port=5012 buffer-size=2000000 ! tsdemux ! h264parse ! avdec_h264 ! $gray
receive ffmpeg-ts-group 640 360 300 ffmpeg $quick -i "udp://239.255.7.7:5014?localaddr=192.0.2.1" $luma
receive ffmpeg-ts-broadcast 640 360 300 ffmpeg $quick -i "udp://192.0.2.255:5016?reuse=1" $luma
receive ffmpeg-ts-connected 640 360 300 ffmpeg $quick -listen 1 -i "tcp://127.0.0.1:5030" $luma
}
sleep 1
"$1" run "$here/all.ini" --for 200 >"$here/out" 2>"$here/log" &
server=$!
for _ in $(seq 50); do grep -q Ctrl-C "$here/out" && [ -s "$here/a.sdp" ] && [ -s "$here/jpeg.sdp" ] && break; sleep 0.1; done
# shellcheck disable=SC2086
{
receive ffmpeg-rtp 640 360 300 ffmpeg $quick -protocol_whitelist file,udp,rtp -i "$here/a.sdp" $luma
receive gstreamer-rtp 640 360 300 gst-launch-1.0 -q filesrc location="$here/b.sdp" ! sdpdemux latency=100 ! rtph264depay ! h264parse ! avdec_h264 output-corrupt=false ! $gray
receive ffmpeg-rtp-jpeg 320 240 150 ffmpeg $quick -protocol_whitelist file,udp,rtp -i "$here/jpeg.sdp" $luma
receive ffmpeg-tcp-raw 640 360 300 ffmpeg $quick -f h264 -i "tcp://127.0.0.1:8601" $luma
receive gstreamer-tcp-raw 640 360 300 gst-launch-1.0 -q tcpclientsrc host=127.0.0.1 port=8601 ! h264parse ! avdec_h264 ! $gray
receive ffmpeg-tcp-ts 640 360 300 ffmpeg $quick -i "tcp://127.0.0.1:8602" $luma
receive gstreamer-tcp-ts 640 360 300 gst-launch-1.0 -q tcpclientsrc host=127.0.0.1 port=8602 ! tsdemux ! h264parse ! avdec_h264 ! $gray
receive ffmpeg-tcp-jpeg 320 240 150 ffmpeg $quick -f mjpeg -i "tcp://127.0.0.1:8603" $luma
}
for job in "${jobs[@]}"; do
    wait "${job%%:*}"
    status=$?
    echo "${job#*:}: $(cat "$here/${job#*:}.strip")"
    check "${job#*:}" $status 0
    [ $status = 0 ] || tail -2 "$here/${job#*:}.err" | head -c 300
done
python3 "$source/examples/framed_viewer.py" 127.0.0.1:8601 >"$here/wrong" 2>&1
check "a viewer of another protocol does not wait forever" $? 1

# The group's transport stream past a dissector, which checks counters and structure; in packets as a cable carries them.
ethtool -K cable tx-udp-segmentation off 2>/dev/null
tshark -q -i cable -w "$here/capture" -f 'udp port 5014' -a duration:4 2>/dev/null
taken() { tshark -r "$here/capture" -d udp.port==5014,mp2t "$@" 2>/dev/null; }
[ "$(taken -Y mp2t | wc -l)" -gt 150 ]; check "the transport stream was understood" $? 0
check "packets with a wrong counter" "$(taken -Y 'mp2t.cc.drop' | wc -l)" 0
check "malformed packets" "$(taken -Y '_ws.malformed' | wc -l)" 0
check "TTL of the group's packets" "$(taken -T fields -e ip.ttl | sort -u)" 2
figure() { curl -s http://127.0.0.1:8080/status.json | python3 -c "import json,sys; print(json.load(sys.stdin)$1)"; }
check "pushes in the status" "$(figure "['pushes'][0]['state']")" sending
check "a listener that left" "$(figure "['pushes'][0]['error']")" refused
grep -q 'to 127.0.0.1:5010: nobody listens there' "$here/log"; check "a refusal is told" $? 0
grep -q '127.0.0.1:5030 closed the connection' "$here/log"; check "a listener that went away is told" $? 0
kill $server; wait $server 2>/dev/null; server=

# Twenty times the listener dies and comes back.
cat >"$here/listen.py" <<'P'
import socket, sys, time
keys, waits = 0, []
for turn in range(20):
    s = socket.socket()
    s.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    s.bind(("127.0.0.1", 5040))
    s.listen(1)
    begin = time.time()
    c, _ = s.accept()
    waits.append(time.time() - begin)
    data = b""
    while len(data) < 4000:
        data += c.recv(4000)
    keys += data.startswith(b"\0\0\0\1\x67")  # parameter sets, then the key frame
    c.close()
    s.close()
    time.sleep(0.1)
print(f"{keys} of 20 began with a key frame; longest wait {max(waits):.1f} s")
P
timeout 80 python3 "$here/listen.py" >"$here/turns" & turns=$!
"$1" send station tcp://127.0.0.1:5040 --config "$here/all.ini" --format raw --for 80 >/dev/null 2>&1 & server=$!
wait $turns; check "the listener came back" $? 0
cat "$here/turns"
grep -q '^20 of 20' "$here/turns"; check "each time with a key frame" $? 0
python3 - "$here/turns" <<'P'
import sys
sys.exit(0 if float(open(sys.argv[1]).read().split("wait ")[1].split()[0]) < 11.5 else 1)
P
check "each time within the longest pause" $? 0
kill $server; wait $server 2>/dev/null; server=
echo "$passed passed, $failed failed"
[ $failed = 0 ]
