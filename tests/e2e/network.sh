#!/bin/bash
# What crosses the network, in a network namespace of its own: multicast, and what a dissector says of every packet.
# network.sh PATH-OF-BAMBINO PATH-OF-READ_STRIP
set -u
if [ "${3:-}" != inside ]; then
    unshare --net true 2>/dev/null || { echo "network namespaces are not permitted here: skipped"; exit 77; }
    exec unshare --net "$0" "$1" "$2" inside
fi
# A cable of its own: on the loopback interface each multicast packet would arrive twice.
ip link set lo up
ip link add cable type veth peer name end
ip addr add 192.0.2.1/24 dev cable
ip link set cable up
ip link set end up
ip route add 239.0.0.0/8 dev cable
here=$(mktemp -d)
passed=0 failed=0
"$1" demo --http 127.0.0.1:8080 --rtsp 127.0.0.1:8554 --for 100 >"$here/out" 2>"$here/log" &
server=$!
trap 'kill $server 2>/dev/null; wait; rm -r "$here"' EXIT
for _ in $(seq 50); do grep -q Ctrl-C "$here/out" && break; sleep 0.1; done
sleep 1

check() {
    if [ "$2" = "$3" ]; then passed=$((passed + 1)); else failed=$((failed + 1)); echo "FAILED: $1: expected $3, got $2"; fi
}
figure() { curl -s http://127.0.0.1:8080/status.json | python3 -c "import json,sys; print(json.load(sys.stdin)$1)"; }

# Multicast: two viewers of a group at once. Who comes second gets frames before its first key frame, the group's; a
# decoder that shows them all the same shows smears for up to half a second.
watch="-fps_mode passthrough -f rawvideo -pix_fmt gray -"
# Datagrams that arrive while the machine stands still are lost: such a round is not counted once.
group_round() {
    # shellcheck disable=SC2086
    ffmpeg -v error -rtsp_transport udp_multicast -i rtsp://127.0.0.1:8554/station $watch 2>/dev/null | "$1" 1280 720 120 >"$here/a" & a=$!
    gst-launch-1.0 -q rtspsrc location=rtsp://127.0.0.1:8554/station protocols=udp-mcast latency=100 ! rtph264depay ! h264parse ! \
        avdec_h264 output-corrupt=false ! videoconvert ! video/x-raw,format=GRAY8 ! fdsink fd=1 2>/dev/null | "$1" 1280 720 120 >"$here/b" & b=$!
    sleep 2.5
    viewers=$(figure "['device']['viewers']") via=$(figure "['viewers'][0]['via']")
    wait $a; first=$?
    wait $b; second=$?
    [ "$first$second" = 00 ]
}
group_round "$2"
check "viewers of the group" "$viewers" 2
check "how they watch" "$via" rtp-multicast
check "ffmpeg in the group" $first 0
check "GStreamer in the group" $second 0
sleep 1
check "the group's viewers left" "$(figure "['device']['viewers']")" 0
grep -q 'group 239.255.42.1:5004 has no viewer left' "$here/log"; check "the group stopped" $? 0

# And one that has only the group's description.
curl -s http://127.0.0.1:8080/station.sdp >"$here/station.sdp"
# shellcheck disable=SC2086
ffmpeg -v error -protocol_whitelist file,udp,rtp -i "$here/station.sdp" $watch 2>/dev/null | "$2" 1280 720 60 >"$here/c"
described=$?
check "pictures by description alone" $described 0
cat "$here/a" "$here/b" "$here/c"

# Every packet of four sessions, taken apart; in segments, as a cable would carry them.
ethtool -K lo tx-udp-segmentation off 2>/dev/null
tshark -q -i lo -w "$here/capture" -f 'udp or port 8554' 2>/dev/null & capture=$!
for _ in $(seq 150); do # its file begins when the capture does
    [ -s "$here/capture" ] && break
    sleep 0.1
done
sleep 1
for transport in udp tcp; do
    for feed in station yard; do
        ffmpeg -v error -rtsp_transport $transport -i rtsp://127.0.0.1:8554/$feed -t 3 -f null - 2>/dev/null
    done
done
sleep 0.5
kill $capture; wait $capture 2>/dev/null
taken() { tshark -r "$here/capture" -d tcp.port==8554,rtsp -o rtcp.heuristic_rtcp:TRUE "$@" 2>/dev/null; }
check "malformed packets" "$(taken -Y '_ws.malformed' | wc -l)" 0
check "packets with expert errors" "$(taken -Y '_ws.expert.severity == error' | wc -l)" 0
[ "$(taken -Y rtp | wc -l)" -gt 300 ]; check "RTP was understood" $? 0
[ "$(taken -Y 'rtcp.pt == 200' | wc -l)" -ge 4 ]; check "sender reports" $? 0
[ "$(taken -Y 'sdp' | wc -l)" -ge 4 ]; check "descriptions" $? 0
# Sequence numbers of each stream, packet by packet: every one a step of 1.
cat >"$here/gaps.py" <<'P'
import sys
last, gaps, count = {}, 0, 0
for line in sys.stdin:
    ssrcs, seqs = (field.split(",") for field in line.strip().split("\t"))
    for ssrc, seq in zip(ssrcs, map(int, seqs)):
        gaps += ssrc in last and seq != (last[ssrc] + 1) % 65536
        last[ssrc] = seq
        count += 1
print(f"{len(last)} streams, {gaps} gaps")
print(f"{count} RTP packets dissected", file=sys.stderr)
P
# Packets that ffmpeg sends to open firewalls have the SSRC 0 and are not ours.
check "sequence numbers" "$(taken -Y 'rtp && rtp.ssrc != 0' -T fields -e rtp.ssrc -e rtp.seq | python3 "$here/gaps.py")" "4 streams, 0 gaps"
kill $server
echo "$passed passed, $failed failed"
[ $failed = 0 ]
