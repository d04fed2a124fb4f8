#!/usr/bin/env python3
"""What arrives behind narrow links, in network namespaces of its own: a table, and a plot of it.

    weak_links.py BAMBINO [--seconds N] [--rates 6,3,1] [--write]     (as root; --write: docs/weak-links.md and its picture)

A feed of JPEG (640x480 at 30/s, about 6 Mbit/s) and one of H.264 (1280x720 at 30/s, 2 Mbit/s in busy scenes) go over each way at a
time, through a token bucket with a queue of 100 ms. bambino check measures at the other end; both ends have one clock."""
import argparse, json, os, subprocess, sys, tempfile, time

parser = argparse.ArgumentParser(description=__doc__)
parser.add_argument("bambino")
parser.add_argument("--seconds", type=int, default=20)
parser.add_argument("--rates", default="20,6,3,1.5,1,0.5")
parser.add_argument("--write", action="store_true")
parser.add_argument("--inside", action="store_true", help=argparse.SUPPRESS)
options = parser.parse_args()
source = os.path.dirname(os.path.dirname(os.path.abspath(__file__)))
if not options.inside:
    if subprocess.run(["unshare", "--net", "true"], stderr=subprocess.DEVNULL).returncode != 0:
        print("network namespaces are not permitted here: skipped")
        sys.exit(77)
    os.execvp("unshare", ["unshare", "--net", sys.executable, os.path.abspath(__file__), *sys.argv[1:], "--inside"])

HOST, FAR = "192.0.2.1", f"weak{os.getpid()}"
WAYS = [
    ("JPEG over HTTP", [f"http://{HOST}:8080/yard.mjpeg"]), ("JPEG, RTP over TCP", ["--by", "tcp", f"rtsp://{HOST}:8554/yard"]),
    ("JPEG, RTP over UDP", ["--by", "udp", f"rtsp://{HOST}:8554/yard"]), ("H.264, TS over HTTP", [f"http://{HOST}:8080/station.ts"]),
    ("H.264, RTP over TCP", ["--by", "tcp", f"rtsp://{HOST}:8554/station"]), ("H.264, RTP over UDP", ["--by", "udp", f"rtsp://{HOST}:8554/station"]),
]
CONFIG = f"""[http]
listen = {HOST}:8080
[rtsp]
listen = {HOST}:8554
[camera yard]
source = drawn
view = yard
[camera station]
source = drawn
view = station
codec = h264
[feed yard]
size = 640x480
rate = 30
quality = 72
[feed station]
size = 1280x720
rate = 30
kbps = 2000
"""


def run(*words):
    subprocess.run(words, check=True)


run("ip", "link", "set", "lo", "up")
run("ip", "netns", "add", FAR)
rows = []
with tempfile.TemporaryDirectory() as here:
    server = None
    try:
        run("ip", "link", "add", "near", "type", "veth", "peer", "name", "end", "netns", FAR)
        run("ip", "addr", "add", HOST + "/24", "dev", "near")
        run("ip", "link", "set", "near", "up")
        run("ip", "-n", FAR, "addr", "add", "192.0.2.2/24", "dev", "end")
        run("ip", "-n", FAR, "link", "set", "end", "up")
        with open(f"{here}/c.ini", "w") as f:
            f.write(CONFIG)
        server = subprocess.Popen([options.bambino, "run", f"{here}/c.ini"], stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True)
        while "Ctrl-C" not in server.stdout.readline():
            pass
        for rate in options.rates.split(","):
            run("tc", "qdisc", "replace", "dev", "near", "root", "tbf", "rate", f"{float(rate) * 1000:.0f}kbit", "burst", "8k", "latency", "100ms")
            for name, address in WAYS:
                r = subprocess.run(["ip", "netns", "exec", FAR, options.bambino, "check", "--json", "--for", str(options.seconds), *address],
                                   capture_output=True, text=True, timeout=options.seconds + 60)
                got = json.loads(r.stdout)["received"][0]
                rows.append((float(rate), name, got))
                print(f"{rate:>4} Mbit/s  {name:20} {got.get('rate', 0):5.1f}/s  {got.get('kbps', 0):6.0f} kbit/s  {got['pictures']:4} whole, {got['broken']:3} broken, "
                      f"{got['skipped']:3} left out  delay {got.get('delay-50', 0):4.0f}, 95 % {got.get('delay-95', 0):4.0f} ms", flush=True)
    finally:
        if server:
            server.kill()
            server.wait()
        subprocess.run(["ip", "netns", "del", FAR])

# 3 Mbit/s with 6 of JPEG: what the project promises of it.
for rate, name, got in rows:
    if rate == 3 and name in ("JPEG over HTTP", "JPEG, RTP over TCP"):
        good = got["delay-95"] < 150 and got["kbps"] > 2700
        print(f"{name} at 3 Mbit/s: 95 % under {got['delay-95']:.0f} ms (150), {got['kbps'] / 30:.0f} % of the path (90): {'met' if good else 'NOT MET'}")


def plot(path):
    """Delay (95 %) and pictures a second over the link's rate, as SVG."""
    colours = ["#206b87", "#cc6b21", "#598c38", "#8c4080", "#99801a", "#404da6"]
    rates = sorted({r for r, _, _ in rows})
    out = ['<svg xmlns="http://www.w3.org/2000/svg" width="1200" height="700" font-family="sans-serif" font-size="14">', '<rect width="1200" height="700" fill="#fff"/>']
    for i, (name, _) in enumerate(WAYS):
        out.append(f'<rect x="{80 + i % 3 * 370}" y="{16 + i // 3 * 22}" width="12" height="12" fill="{colours[i]}"/><text x="{100 + i % 3 * 370}" y="{27 + i // 3 * 22}">{name}</text>')
    for title, key, top, most in (("Pictures a second that arrive whole", "rate", 100, 30), ("95 % of the pictures are younger than so many ms", "delay-95", 410, 1000)):
        out.append(f'<text x="80" y="{top - 12}" font-size="17">{title}</text>')
        for k in range(5):
            y = top + 200 - 50 * k
            out.append(f'<path d="M80 {y}H1170" stroke="#ddd"/><text x="70" y="{y + 5}" text-anchor="end">{most * k / 4:g}</text>')
        step = 1090 / len(rates)
        for j, rate in enumerate(rates):
            out.append(f'<text x="{80 + step * (j + .5)}" y="{top + 222}" text-anchor="middle">{rate:g} Mbit/s</text>')
            for i, (name, _) in enumerate(WAYS):
                value = min(next(g.get(key, 0) for r, n, g in rows if r == rate and n == name), most)
                height = 200 * value / most
                out.append(f'<rect x="{80 + step * (j + .1 + i * .13):.1f}" y="{top + 200 - height:.1f}" width="{step * .12:.1f}" height="{height:.1f}" fill="{colours[i]}"/>')
    out.append("</svg>")
    with open(path, "w") as f:
        f.write("\n".join(out))


if options.write:
    page = f"{source}/docs/weak-links.md"
    with open(page) as f:
        text = f.read()
    table = ["| link | way | whole pictures a second | kbit/s | broken | delay, median | 95 % under |", "| --- | --- | --- | --- | --- | --- | --- |"]
    table += [f"| {r:g} Mbit/s | {n} | {g.get('rate', 0):.1f} | {g.get('kbps', 0):,.0f} | {g['broken']} | {g.get('delay-50', 0):.0f} ms | {g.get('delay-95', 0):.0f} ms |" for r, n, g in rows]
    begin, end = "<!-- table -->\n", "<!-- table end -->"
    i, j = text.index(begin) + len(begin), text.index(end)
    with open(page, "w") as f:
        f.write(text[:i] + "\n".join(table) + "\n" + text[j:])
    with tempfile.TemporaryDirectory() as here:
        plot(f"{here}/p.svg")
        run("chromium", "--headless", "--no-sandbox", "--hide-scrollbars", "--window-size=1200,700", f"--screenshot={source}/docs/screenshots/weak-links.png", f"file://{here}/p.svg")
