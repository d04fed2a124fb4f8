#!/bin/bash
# A viewer behind a link that carries less than half of the feed, in network namespaces of its own: it gets fewer
# pictures, and fresh ones. slow_link.sh PATH-OF-BAMBINO
set -u
if [ "${2:-}" != inside ]; then
    unshare --net true 2>/dev/null || { echo "network namespaces are not permitted here: skipped"; exit 77; }
    exec unshare --net "$0" "$1" inside
fi
here=$(mktemp -d)
ip link set lo up
ip netns add "far$$" || exit 77
trap 'kill $server 2>/dev/null; wait; ip netns del "far$$"; rm -r "$here"' EXIT
server=
ip link add near type veth peer name end netns "far$$"
ip addr add 192.0.2.1/24 dev near && ip link set near up
ip -n "far$$" addr add 192.0.2.2/24 dev end && ip -n "far$$" link set end up
tc qdisc add dev near root tbf rate 1500kbit burst 8k latency 60ms 2>/dev/null ||
    { echo "traffic cannot be shaped here: skipped"; exit 77; }
"$1" demo --http 192.0.2.1:8080 --rtsp 192.0.2.1:8554 --for 60 >"$here/out" 2>/dev/null &
server=$!
for _ in $(seq 50); do grep -q Ctrl-C "$here/out" && break; sleep 0.1; done

cat >"$here/watch.py" <<'P'
import socket, sys, time
time.sleep(2)  # the feed's rate is measured over two seconds
s = socket.create_connection(("192.0.2.1", 8080))
s.sendall(b"GET /yard.mjpeg HTTP/1.1\r\nHost: a\r\n\r\n")
f, ages, numbers, begin = s.makefile("rb"), [], [], time.time()
while time.time() - begin < 24:
    head = {}
    while (line := f.readline().strip()) != b"" or not head:
        if b": " in line:
            key, value = line.split(b": ", 1)
            head[key] = value
    if b"Frame-Number" not in head:
        continue
    f.read(int(head[b"Content-Length"]))
    ages.append(time.time() * 1000 - int(head[b"Frame-Captured-Us"].split()[0]) / 1000)
    numbers.append(int(head[b"Frame-Number"]))
third = len(ages) // 3
mean = lambda a: sum(a) / len(a)
p95 = sorted(ages)[len(ages) * 95 // 100]
print(f"{len(ages)} of {numbers[-1] - numbers[0] + 1} pictures, age {mean(ages[:third]):.0f} ms at first, "
      f"{mean(ages[-third:]):.0f} ms at last, 95 % under {p95:.0f} ms")
# A picture of 29 KB takes 155 ms at this rate; the system and the link's queue hold some more, and what the link drops is
# sent again. A sender that queues would be many seconds behind by the end.
rises = all(b > a for a, b in zip(numbers, numbers[1:]))
steady = mean(ages[-third:]) < mean(ages[:third]) + 150
sys.exit(0 if rises and steady and len(ages) > 60 and p95 < 1200 else 1)
P
if ip netns exec "far$$" python3 "$here/watch.py"; then echo "1 passed, 0 failed"; else echo "0 passed, 1 failed"; exit 1; fi
