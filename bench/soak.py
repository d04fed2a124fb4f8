#!/usr/bin/env python3
"""Hours of coming and going, in network namespaces of its own: do memory, descriptors, counters and delay stay flat?

    soak.py BAMBINO [--minutes N] [--seed N] [--rows FILE]     (as root)

Viewers of all kinds come, go, and stall; requests are broken off; the link changes between 20 and 1 Mbit/s, and goes away for
seconds; the program behind a camera is killed, as if it were unplugged. Once a minute a row: what the process holds, and the delay
that `bambino check` measures at the other end of a wide link. At the end the last quarter is compared with the second one."""
import argparse, json, os, random, signal, socket, subprocess, sys, tempfile, time, urllib.request

parser = argparse.ArgumentParser(description=__doc__)
parser.add_argument("bambino")
parser.add_argument("--minutes", type=float, default=10)
parser.add_argument("--seed", type=int, default=1)
parser.add_argument("--rows")
parser.add_argument("--inside", action="store_true", help=argparse.SUPPRESS)
options = parser.parse_args()
if not options.inside:
    if subprocess.run(["unshare", "--net", "true"], stderr=subprocess.DEVNULL).returncode != 0:
        print("network namespaces are not permitted here: skipped")
        sys.exit(77)
    os.execvp("unshare", ["unshare", "--net", sys.executable, os.path.abspath(__file__), *sys.argv[1:], "--inside"])

HOST, FAR, dice = "192.0.2.1", f"soak{os.getpid()}", random.Random(options.seed)
CONFIG = """[device]
viewers = 12
[http]
listen = 192.0.2.1:8080
[rtsp]
listen = 192.0.2.1:8554
[tcp all]
listen = 192.0.2.1:8600
format = framed
[camera yard]
source = drawn
view = yard
[camera station]
source = drawn
view = station
codec = h264
[camera loco]
program = "{program}"
[feed yard]
size = 640x480
rate = 10
step = yard-small
[feed yard-small]
camera = yard
size = 320x240
rate = 10
[feed station]
size = 640x360
rate = 10
kbps = 600
[feed loco]
size = 320x240
rate = 5
"""


def run(*words):
    subprocess.run(words, check=True)


def far(*words, **more):
    return subprocess.Popen(["ip", "netns", "exec", FAR, *words], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, **more)


def link(mbit):
    run("tc", "qdisc", "replace", "dev", "near", "root", "tbf", "rate", f"{mbit * 1000:.0f}kbit", "burst", "8k", "latency", "100ms")


def held(pid):
    with open(f"/proc/{pid}/status") as f:
        rss = next(int(line.split()[1]) for line in f if line.startswith("VmRSS"))
    with open(f"/proc/{pid}/stat") as f:
        ticks = sum(int(x) for x in f.read().rsplit(")", 1)[1].split()[11:13])
    return rss, len(os.listdir(f"/proc/{pid}/fd")), ticks / os.sysconf("SC_CLK_TCK")


def status():
    with urllib.request.urlopen(f"http://{HOST}:8080/status.json", timeout=5) as r:
        return json.load(r)


ADDRESSES = [[f"http://{HOST}:8080/yard.mjpeg"], [f"http://{HOST}:8080/station.ts"], ["--by", "tcp", f"rtsp://{HOST}:8554/station"],
             ["--by", "udp", f"rtsp://{HOST}:8554/station"], ["--by", "udp", f"rtsp://{HOST}:8554/yard"], [f"http://{HOST}:8080/loco.mjpeg"],
             ["--by", "tcp", f"rtsp://{HOST}:8554/yard"], [f"tcp://{HOST}:8600/station"]]
STALLER = """import socket, sys, time
s = socket.create_connection(("192.0.2.1", int(sys.argv[1])))
s.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 8192)
s.sendall(sys.argv[2].encode().decode("unicode_escape").encode())
s.recv(2000)
time.sleep(float(sys.argv[3]))
"""
REQUESTS = [("8080", r"GET /yard.mjpeg HTTP/1.1\r\nHost: a\r\n\r\n"), ("8080", r"GET /station.ts HTTP/1.1\r\nHost: a\r\n\r\n"),
            ("8080", r"GET /yard.jpg HTT"), ("8554", r"DESCRIBE rtsp://a/yard RTSP/1.0\r\nCSeq: 1\r\n\r\n"), ("8080", r"GET /status.json HTTP/1.1\r\nHost: a\r\n\r\n")]


def happen(server, watching):
    """One thing that happens."""
    dead = [p for p in watching if p.poll() is not None]
    for p in dead:
        watching.remove(p)
    kind = dice.random()
    if kind < 0.45 and len(watching) < 8:
        watching.append(far(options.bambino, "check", "--for", str(dice.randint(3, 60)), *dice.choice(ADDRESSES)))
    elif kind < 0.6 and watching:
        dice.choice(watching).send_signal(dice.choice([signal.SIGINT, signal.SIGKILL]))
    elif kind < 0.75 and len(watching) < 8:
        port, text = dice.choice(REQUESTS)
        watching.append(far(sys.executable, "-c", STALLER, port, text, str(dice.randint(1, 20))))
    elif kind < 0.85:
        link(dice.choice([20, 6, 3, 1]))
    elif kind < 0.9:
        run("ip", "link", "set", "near", "down")
        time.sleep(dice.choice([0.4, 0.4, 3, 7]))
        run("ip", "link", "set", "near", "up")
    elif kind < 0.95:
        for child in open(f"/proc/{server.pid}/task/{server.pid}/children").read().split():
            os.kill(int(child), signal.SIGKILL)
    else:
        try:
            urllib.request.urlopen(f"http://{HOST}:8080/yard.jpg", timeout=5).read()
        except OSError:
            pass


def measure():
    """Delay over a wide link, for some seconds; (median, 95 %) in ms."""
    link(20)
    r = subprocess.run(["ip", "netns", "exec", FAR, options.bambino, "check", "--json", "--for", "6", f"http://{HOST}:8080/yard.mjpeg"],
                       capture_output=True, text=True, timeout=60)
    got = json.loads(r.stdout)["received"][0]
    return got.get("delay-50", 0), got.get("delay-95", 0)


run("ip", "link", "set", "lo", "up")
run("ip", "netns", "add", FAR)
rows = []
with tempfile.TemporaryDirectory() as here:
    server, watching = None, []
    try:
        run("ip", "link", "add", "near", "type", "veth", "peer", "name", "end", "netns", FAR)
        run("ip", "addr", "add", HOST + "/24", "dev", "near")
        run("ip", "link", "set", "near", "up")
        run("ip", "-n", FAR, "addr", "add", "192.0.2.2/24", "dev", "end")
        run("ip", "-n", FAR, "link", "set", "end", "up")
        program = os.path.join(os.path.dirname(os.path.abspath(__file__)), "..", "demo")
        clip = next(os.path.join(program, n) for n in sorted(os.listdir(program)) if n.endswith(".mjpeg"))
        with open(f"{here}/feeder", "w") as f:
            f.write(f"#!/bin/sh\nwhile :; do cat '{clip}'; sleep 1; done\n")
        os.chmod(f"{here}/feeder", 0o755)
        with open(f"{here}/c.ini", "w") as f:
            f.write(CONFIG.replace("{program}", f"{here}/feeder"))
        server = subprocess.Popen([options.bambino, "run", f"{here}/c.ini"], stdout=subprocess.PIPE, stderr=open(f"{here}/log", "w"), text=True)
        while "Ctrl-C" not in server.stdout.readline():
            pass
        begin = time.monotonic()
        print(f"{'minute':>6} {'RSS KiB':>8} {'files':>5} {'CPU s':>8} {'viewers':>7} {'sessions':>8} {'connections':>11} {'delay ms':>8} {'95 %':>6}", flush=True)
        while time.monotonic() - begin < options.minutes * 60:
            until = time.monotonic() + 50
            while time.monotonic() < until:
                happen(server, watching)
                time.sleep(dice.uniform(0.2, 2))
            for p in watching:
                p.kill()
                p.wait()
            watching.clear()
            link(20)
            time.sleep(14)  # those who vanished are noticed: a stall, a session without its connection
            s = status()["device"]
            rss, files, cpu = held(server.pid)
            median, most = measure()
            rows.append(dict(minute=(time.monotonic() - begin) / 60, rss=rss, files=files, cpu=cpu, viewers=s["viewers"], sessions=s.get("rtsp_sessions", 0),
                             connections=s["connections"], delay=median, delay95=most))
            r = rows[-1]
            print(f"{r['minute']:6.1f} {rss:8} {files:5} {cpu:8.1f} {s['viewers']:7} {s.get('rtsp_sessions', 0):8} {s['connections']:11} {median:8.1f} {most:6.1f}", flush=True)
            if server.poll() is not None:
                sys.exit("it has ended by itself")
    finally:
        for p in watching:
            p.kill()
        if server:
            server.terminate()
            server.wait()
        subprocess.run(["ip", "netns", "del", FAR])
        log = open(f"{here}/log").read() if os.path.exists(f"{here}/log") else ""

if options.rows:
    with open(options.rows, "w") as f:
        json.dump(rows, f)


def middle(values):
    return sorted(values)[len(values) // 2]


kinds = {}
for line in log.splitlines():
    word = next((w for w in ("watches", "was closed", "is given", "bit rate is", "camera failed", "was refused", "ended", "left after") if w in line), None)
    if word:
        kinds[word] = kinds.get(word, 0) + 1
print("the log says:", ", ".join(f"{n} times \"{w}\"" for w, n in sorted(kinds.items(), key=lambda k: -k[1])))
bad = []
quarter = max(1, len(rows) // 4)
early, late = rows[quarter:2 * quarter] or rows[:1], rows[-quarter:]
for key, name, slack in (("rss", "RSS, KiB", 0.05), ("files", "files", 0), ("delay", "delay, median, ms", 0.5)):
    a, b = middle([r[key] for r in early]), middle([r[key] for r in late])
    flat = b <= a * (1 + slack) + (2 if key == "delay" else 1)
    print(f"{name}: {a:g} in the second quarter, {b:g} in the last: {'flat' if flat else 'IT GREW'}")
    bad += [] if flat else [name]
if any(r["viewers"] or r["sessions"] for r in rows):
    bad.append("viewers or sessions that stayed")
    print("somebody who had gone was still counted a quarter of a minute later")
sys.exit(1 if bad else 0)
