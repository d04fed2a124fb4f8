#!/bin/bash
# A receiver behind a link that carries half of the feed, in network namespaces of its own: it gets fewer pictures, and
# fresh ones. With a program that sends in the plain way in the place of BAMBINO: what happens otherwise.
#   slow_link.sh PATH-OF-BAMBINO SECONDS [PATH-OF-BLOCKING-SENDER]
set -u
if [ "${4:-}" != inside ]; then
    unshare --net true 2>/dev/null || { echo "network namespaces are not permitted here: skipped"; exit 77; }
    exec unshare --net "$0" "$1" "$2" "${3:-}" inside
fi
here=$(mktemp -d)
source=$(cd "$(dirname "$0")/../.." && pwd)
ip link set lo up
ip netns add "far$$" || exit 77
server=
trap '[ -z "$server" ] || kill $server 2>/dev/null; wait; ip netns del "far$$"; rm -r "$here"' EXIT
ip link add near type veth peer name end netns "far$$"
ip addr add 192.0.2.1/24 dev near && ip link set near up
ip -n "far$$" addr add 192.0.2.2/24 dev end && ip -n "far$$" link set end up
tc qdisc add dev near root tbf rate 3mbit burst 8k latency 100ms 2>/dev/null ||
    { echo "traffic cannot be shaped here: skipped"; exit 77; }
# About 6 Mbit/s of JPEG.
cat >"$here/slow.ini" <<'P'
[http]
listen = 192.0.2.1:8080
[tcp all]
listen = 192.0.2.1:8600
format = framed
[camera yard]
source = drawn
view = yard
[feed yard]
size = 640x480
rate = 25
quality = 79
P
cat >"$here/watch.py" <<'P'
import socket, struct, sys, time
sys.path.insert(0, sys.argv[1] + "/examples")
from framed_viewer import FRAME, Viewer

def framed():
    viewer = Viewer("192.0.2.1", 8600)
    viewer.watch("yard")
    while True:
        kind, _, number, body = viewer.stream.next()
        if kind == FRAME:
            yield number, struct.unpack_from(">Q", body, 12)[0], len(body)

def http():
    s = socket.create_connection(("192.0.2.1", 8080))
    s.sendall(b"GET /yard.mjpeg HTTP/1.1\r\nHost: localhost\r\n\r\n")
    f = s.makefile("rb")
    while True:
        head = {}
        while (line := f.readline().strip()) != b"" or not head:
            if b": " in line:
                key, value = line.split(b": ", 1)
                head[key] = value
        if b"Frame-Number" in head:
            size = len(f.read(int(head[b"Content-Length"])))
            yield int(head[b"Frame-Number"]), int(head[b"Frame-Captured-Us"].split()[0]), size

def plain():  # of the blocking sender: number, time, size, picture
    f = socket.create_connection(("192.0.2.1", 8700)).makefile("rb")
    while True:
        number, us, size = struct.unpack(">IQI", f.read(16))
        f.read(size)
        yield number, us, size

how, seconds = sys.argv[2], float(sys.argv[3])
begin, rows = time.time(), []
for number, us, size in {"framed": framed, "http": http, "plain": plain}[how]():
    now = time.time()
    rows.append((now - begin, number, now * 1000 - us / 1000, size))
    if now - begin > seconds:
        break
rows = [row for row in rows if row[0] > min(2, seconds / 5)]  # the link's rate is known after two seconds
ages = sorted(age for _, _, age, _ in rows)
span = min(10, seconds / 4)
mean = lambda part: sum(part) / max(1, len(part))
first = mean([age for at, _, age, _ in rows if at < rows[0][0] + span])
last = mean([age for at, _, age, _ in rows if at > rows[-1][0] - span])
p95 = ages[len(ages) * 95 // 100]
kbps = mean([size for *_, size in rows]) * 25 * 8 / 1000
print(f"{how}: {len(rows)} of {rows[-1][1] - rows[0][1] + 1} pictures of a feed of {kbps:.0f} kbit/s; age {first:.0f} ms "
      f"at first, {last:.0f} ms at last, 95 % under {p95:.0f} ms")
rises = all(b[1] > a[1] for a, b in zip(rows, rows[1:]))
bound = float(sys.argv[4])
sys.exit(0 if rises and len(rows) > 5 * seconds and p95 < bound and last < first + bound / 4 else 1)
P
passed=0 failed=0
watch() {
    for _ in 1 2; do # a machine that stands still for seconds is not the slow link that is looked at
        if ip netns exec "far$$" timeout $((${2%.*} + 20)) python3 "$here/watch.py" "$source" "$1" "$2" "$3"; then
            passed=$((passed + 1))
            return
        fi
    done
    failed=$((failed + 1))
}
"$1" run "$here/slow.ini" --for $((4 * $2 + 60)) >"$here/out" 2>"$here/log" &
server=$!
for _ in $(seq 50); do grep -q Ctrl-C "$here/out" && break; sleep 0.1; done
sleep 1
# Half of the feed arrives. A machine that is busy elsewhere adds to the ages; benchmarks look at the bound of 150 ms.
watch framed "$2" "${SLOW_BOUND:-500}"
watch http "$2" "${SLOW_BOUND:-500}"
kill $server; wait $server 2>/dev/null; server=
if [ -n "$3" ]; then
    echo "The same pictures from a program that blocks in send():"
    "$3" 192.0.2.1 8700 30000 25 "$2" & server=$!
    sleep 0.5
    ip netns exec "far$$" timeout $(($2 + 20)) python3 "$here/watch.py" "$source" plain "$2" 1000
    kill $server 2>/dev/null; wait $server 2>/dev/null; server=
fi
echo "$passed passed, $failed failed"
[ $failed = 0 ]
