#!/usr/bin/env python3
"""What arrives behind weak links, in network namespaces of its own: tables, and plots of them.

    weak_links.py BAMBINO [--seconds N] [--rates 6,3] [--loss 0,1] [--trips 5,50] [--only table,repeats,outages,course] [--write]
    (as root; --write: docs/weak-links.md and its pictures)

A feed of JPEG (640x480 at 30/s, about 6 Mbit/s) with a step of 320x240, and one of H.264 (1280x720 at 30/s, 2 Mbit/s) whose encoder
follows, go over a path of that rate, loss (each way) and round trip, with a queue of 100 ms (bench/path.py); one way of each at a
time, over a path of its own. bambino check measures at the other end; both ends have one clock."""
import argparse, json, os, subprocess, sys, tempfile, threading, time, urllib.request

from path import Path

parser = argparse.ArgumentParser(description=__doc__)
parser.add_argument("bambino")
parser.add_argument("--seconds", type=int, default=12)
parser.add_argument("--rates", default="20,6,3,1,0.5")
parser.add_argument("--loss", default="0,1,5")
parser.add_argument("--trips", default="5,50,200")
parser.add_argument("--only", default="table,repeats,outages,course")
parser.add_argument("--plain", action="store_true", help="without a step, and with an encoder that does not follow")
parser.add_argument("--write", action="store_true")
parser.add_argument("--inside", action="store_true", help=argparse.SUPPRESS)
options = parser.parse_args()
source = os.path.dirname(os.path.dirname(os.path.abspath(__file__)))
if not options.inside:
    if subprocess.run(["unshare", "--net", "true"], stderr=subprocess.DEVNULL).returncode != 0 or not os.path.exists("/dev/net/tun"):
        print("network namespaces are not permitted here: skipped")
        sys.exit(77)
    os.execvp("unshare", ["unshare", "--net", sys.executable, os.path.abspath(__file__), *sys.argv[1:], "--inside"])

NEAR, FAR = ("192.0.2.1", "198.51.100.1"), ("192.0.2.2", "198.51.100.2")  # one path for each codec
WAYS = (("JPEG over HTTP", "http://HOST:8080/yard.mjpeg"), ("JPEG, RTP over TCP", "--by tcp rtsp://HOST:8554/yard"),
        ("JPEG, RTP over UDP", "--by udp rtsp://HOST:8554/yard"), ("H.264, TS over HTTP", "http://HOST:8080/station.ts"),
        ("H.264, RTP over TCP", "--by tcp rtsp://HOST:8554/station"), ("H.264, RTP over UDP", "--by udp rtsp://HOST:8554/station"))
COLOURS = ["#206b87", "#cc6b21", "#598c38", "#8c4080", "#99801a", "#404da6"]
CONFIG = """[http]
listen = :8080
[rtsp]
listen = :8554
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
step = yard-small
[feed yard-small]
camera = yard
size = 320x240
rate = 30
quality = 60
[feed station]
size = 1280x720
rate = 30
kbps = 2000
"""
if options.plain:
    CONFIG = CONFIG.replace("step = yard-small\n", "").replace("kbps = 2000\n", "kbps = 2000\nfollow = nobody\n")
numbers = lambda text: [float(x) for x in text.split(",")]
only = options.only.split(",")
names = [f"weak{os.getpid()}-{i}" for i in range(2)]


def far(i, *words, **more):
    return subprocess.Popen(["ip", "netns", "exec", names[i], *words], stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True, **more)


def check(way, seconds):
    i = way // 3
    words = [w.replace("HOST", NEAR[i]) for w in WAYS[way][1].split()]
    return far(i, options.bambino, "check", "--json", "--for", str(seconds), *words)


def got(process):
    text = process.communicate(timeout=120)[0]
    return json.loads(text)["received"][0] if text else {}


def status():
    with urllib.request.urlopen("http://127.0.0.1:8080/status.json", timeout=5) as r:
        return json.load(r)


def chosen():
    """What viewers are given just now: by feed, the step, or the bit rate that the encoder follows with."""
    s = status()
    out = {f["name"]: f"{f['follows_kbps']} kbit/s" if f.get("follows_kbps") else "all" for f in s["feeds"]}
    out["longest"] = {v["feed"]: v["watching_s"] for v in s["viewers"]}  # since a viewer came: of the same connection or session
    for v in s["viewers"]:
        if v.get("given"):
            out[v["feed"]] = v["given"]
    return out


def watched(ways, seconds):
    """Several at once, and what they are given shortly before the end."""
    running = [check(w, seconds) for w in ways]
    time.sleep(max(1, seconds - 1))
    steps = chosen()
    return [got(p) for p in running], steps


def svg(width, height):
    return [f'<svg xmlns="http://www.w3.org/2000/svg" width="{width}" height="{height}" font-family="sans-serif" font-size="14">', f'<rect width="{width}" height="{height}" fill="#fff"/>']


def draw(lines, width, height, name):
    with tempfile.TemporaryDirectory() as here:
        with open(f"{here}/p.svg", "w") as f:
            f.write("\n".join(lines + ["</svg>"]))
        subprocess.run(["chromium", "--headless", "--no-sandbox", "--hide-scrollbars", f"--window-size={width},{height}",
                        f"--screenshot={source}/docs/screenshots/{name}.png", f"file://{here}/p.svg"], check=True, stderr=subprocess.DEVNULL)


def bars(rows, rates):
    """Pictures a second and delay (95 %) over the link's rate, without loss, at the shortest round trip."""
    out = svg(1200, 700)
    for i, (name, _) in enumerate(WAYS):
        out.append(f'<rect x="{80 + i % 3 * 370}" y="{16 + i // 3 * 22}" width="12" height="12" fill="{COLOURS[i]}"/><text x="{100 + i % 3 * 370}" y="{27 + i // 3 * 22}">{name}</text>')
    for title, key, top, most in (("Pictures a second that arrive whole", "rate", 100, 30), ("95 % of the pictures are younger than so many ms", "delay-95", 410, 1000)):
        out.append(f'<text x="80" y="{top - 12}" font-size="17">{title}</text>')
        for k in range(5):
            y = top + 200 - 50 * k
            out.append(f'<path d="M80 {y}H1170" stroke="#ddd"/><text x="70" y="{y + 5}" text-anchor="end">{most * k / 4:g}</text>')
        step = 1090 / len(rates)
        for j, rate in enumerate(rates):
            out.append(f'<text x="{80 + step * (j + .5)}" y="{top + 222}" text-anchor="middle">{rate:g} Mbit/s</text>')
            for i in range(6):
                value = min(next((g.get(key, 0) for r, n, g in rows if r == rate and n == i), 0), most)
                height = 200 * value / most
                out.append(f'<rect x="{80 + step * (j + .1 + i * .13):.1f}" y="{top + 200 - height:.1f}" width="{step * .12:.1f}" height="{height:.1f}" fill="{COLOURS[i]}"/>')
    draw(out, 1200, 700, "weak-links")


def table(paths):
    rows, plotted = [], []
    rates, losses, trips = numbers(options.rates), numbers(options.loss), numbers(options.trips)
    for rate in rates:
        for loss in losses:
            for trip in trips:
                for p in paths:
                    p.set(mbit=rate, loss=loss / 100, delay_ms=trip / 2)
                for pair in range(3):
                    results, steps = watched((pair, pair + 3), options.seconds)
                    for way, g in zip((pair, pair + 3), results):
                        step = steps["yard" if way < 3 else "station"]
                        rows.append((rate, loss, trip, way, g, step))
                        if loss == losses[0] and trip == trips[0]:
                            plotted.append((rate, way, g))
                        print(f"{rate:>4g} Mbit/s {loss:g} % {trip:>3g} ms  {WAYS[way][0]:20} {g.get('rate', 0):5.1f}/s {g.get('whole', 0):5.1f} % whole "
                              f"{g.get('kbps', 0):6.0f} kbit/s  delay {g.get('delay-50', 0):4.0f}, 95 % {g.get('delay-95', 0):4.0f} ms  {step}", flush=True)
                    time.sleep(2.5)  # whoever left is gone, and the encoder as it is set
    for rate, loss, trip, way, g, _ in rows:  # what the project promises of 3 Mbit/s with 6 of JPEG
        if rate == 3 and loss == 0 and trip == trips[0] and way < 2:
            good = g["delay-95"] < 150 and (g["kbps"] > 2700 or not options.plain)
            print(f"{WAYS[way][0]} at 3 Mbit/s: 95 % under {g['delay-95']:.0f} ms (150), {g['kbps'] / 30:.0f} % of the path (90{'' if options.plain else ' without a step'}): {'met' if good else 'NOT MET'}")
    text = []
    for loss in losses:
        for trip in trips:
            text += [f"\n{loss:g} % loss, {trip:g} ms round trip: whole pictures a second; of those sent, whole; age median and 95 %, ms; given\n"]
            text += ["| link | " + " | ".join(n for n, _ in WAYS) + " |", "| --- |" + " --- |" * 6]
            for rate in rates:
                cells = []
                for way in range(6):
                    g, step = next((g, s) for r, l, t, w, g, s in rows if (r, l, t, w) == (rate, loss, trip, way))
                    cells.append(f"{g.get('pictures', 0) / options.seconds:.1f}; {g.get('whole', 0):.0f} %; {g.get('delay-50', 0):.0f}, {g.get('delay-95', 0):.0f}; {step}")
                text.append(f"| {rate:g} Mbit/s | " + " | ".join(cells) + " |")
    if options.write:
        bars(plotted, rates)
    return "\n".join(text[1:]) + "\n"


GSTREAMER = ("timeout -s INT {seconds} gst-launch-1.0 -v rtspsrc location={address} protocols=udp latency=400 do-retransmission={again} ! rtph264depay "
             "wait-for-keyframe=true ! video/x-h264,stream-format=byte-stream,alignment=au ! fakesink silent=false 2>/dev/null | grep -c chain")
FFMPEG = "timeout -s INT {seconds} ffmpeg -hide_banner -v warning -rtsp_transport udp -i {address} -f null - 2>&1 | tr '\\r' '\\n' | grep -o 'missed [0-9]*' | awk '{{n += $2}} END {{print n + 0}}'"


def sent_of(feed):
    return next(f["sent"] for f in status()["feeds"] if f["name"] == feed)


def repeats(paths):
    """Two players of others, with and without packets sent again, at 40 ms."""
    text = ["| loss | GStreamer, pictures whole: /station | /station.avpf | FFmpeg, packets missed: /station | /station.avpf |", "| --- | --- | --- | --- | --- |"]
    for loss in (1, 2, 5):
        paths[1].set(mbit=0, loss=loss / 100, delay_ms=20)
        cells = []
        for command, again in ((GSTREAMER, True), (FFMPEG, False)):
            for name in ("station", "station.avpf"):
                before = sent_of("station")
                p = far(1, "sh", "-c", command.format(seconds=14, address=f"rtsp://{NEAR[1]}:8554/{name}", again=str(name.endswith("avpf")).lower()))
                value, sent = int(p.communicate(timeout=60)[0] or 0), sent_of("station") - before
                cells.append(f"{100 * value / max(1, sent):.0f} %" if again else f"{value}")
                time.sleep(2.5)
        text.append(f"| {loss} % | " + " | ".join(cells) + " |")
        print(text[-1], flush=True)
    return "\n".join(text) + "\n"


def outages(paths):
    text = ["| link | way | went on | whole pictures a second | age, median | 99 % under |", "| --- | --- | --- | --- | --- | --- |"]
    for name, every, out in (("away for 400 ms every 3 s", 3, 0.4), ("away for 5 s every 20 s", 20, 5)):
        for pair in range(3):
            for p in paths:
                p.set(mbit=6, loss=0, delay_ms=5, every_s=every, out_s=out)
            results, steps = watched((pair, pair + 3), 42)
            for way, g in zip((pair, pair + 3), results):
                on = "yes" if steps["longest"].get("yard" if way < 3 else "station", 0) > 38 else "no"
                text.append(f"| {name} | {WAYS[way][0]} | {on} | {g.get('rate', 0):.1f} | {g.get('delay-50', 0):.0f} ms | {g.get('delay-99', 0):.0f} ms |")
                print(text[-1], flush=True)
            time.sleep(2.5)
    for p in paths:
        p.set(every_s=0)
    return "\n".join(text) + "\n"


def course(paths):
    """How steps and bit rate go while the link goes from 20 to 1 Mbit/s and back, twice."""
    legs = ((20, 20), (1, 40), (20, 60), (1, 40), (20, 60))
    running = [check(1, sum(s for _, s in legs) + 5), check(4, sum(s for _, s in legs) + 5)]
    seen, begin, changes = [], time.monotonic(), 0
    for rate, seconds in legs:
        for p in paths:
            p.set(mbit=rate, loss=0, delay_ms=5)
        for _ in range(seconds):
            time.sleep(1)
            c = chosen()
            kbps = 2000 if c["station"] == "all" else int(c["station"].split()[0])
            seen.append((time.monotonic() - begin, rate, kbps, 0 if c["yard"] == "all" else 1))
    for p in running:
        p.communicate(timeout=60)
    times = [[], []]
    for a, b in zip(seen, seen[1:]):
        for k in (2, 3):
            if a[k] != b[k]:
                times[k - 2].append(b[0])
    close = [min((y - x for x, y in zip(t, t[1:])), default=99) for t in times]
    print(f"changes: {len(times[0])} of the bit rate, at least {close[0]:.0f} s apart; {len(times[1])} of the step, at least {close[1]:.0f} s apart")
    if options.write:
        most = seen[-1][0]
        x = lambda t: 80 + 1090 * t / most
        out = svg(1200, 560)
        for title, top, height, ticks, value in (("Link, Mbit/s", 50, 80, (0, 10, 20), lambda s: s[1] / 20), ("Bit rate of station's encoder, kbit/s", 190, 140, (0, 1000, 2000), lambda s: s[2] / 2000),
                                                 ("What the viewer of yard is given", 390, 80, ("yard-small", "yard"), lambda s: 1 - s[3])):
            out.append(f'<text x="80" y="{top - 12}" font-size="17">{title}</text>')
            for k, tick in enumerate(ticks):
                y = top + height - height * k / (len(ticks) - 1)
                out.append(f'<path d="M80 {y}H1170" stroke="#ddd"/><text x="72" y="{y + 5}" text-anchor="end" font-size="{14 if isinstance(tick, int) else 11}">{tick}</text>')
            points, last = [], None
            for s in seen:
                y = top + height - height * value(s)
                if last is not None:
                    points.append(f"{x(s[0]):.1f},{last:.1f}")
                points.append(f"{x(s[0]):.1f},{y:.1f}")
                last = y
            out.append(f'<polyline points="{" ".join(points)}" fill="none" stroke="{COLOURS[0]}" stroke-width="2"/>')
        for k in range(0, int(most) + 1, 20):
            out.append(f'<text x="{x(k)}" y="500" text-anchor="middle">{k} s</text>')
        draw(out, 1200, 560, "following")
    return (f"The encoder changed {len(times[0])} times, at least {close[0]:.0f} s apart, the step {len(times[1])} times, at least {close[1]:.0f} s apart.\n")


subprocess.run(["ip", "link", "set", "lo", "up"], check=True)
for name in names:
    subprocess.run(["ip", "netns", "add", name], check=True)
server, told = None, {}
try:
    with tempfile.TemporaryDirectory() as here, Path("", NEAR[0], names[0], FAR[0], 1) as a, Path("", NEAR[1], names[1], FAR[1], 2) as b:
        with open(f"{here}/c.ini", "w") as f:
            f.write(CONFIG)
        server = subprocess.Popen([options.bambino, "run", f"{here}/c.ini"], stdout=subprocess.PIPE, stderr=open(f"{here}/log", "w"), text=True)
        while "Ctrl-C" not in server.stdout.readline():
            pass
        threading.Thread(target=server.stdout.read, daemon=True).start()
        for name, part in (("table", table), ("repeats", repeats), ("outages", outages), ("course", course)):
            if name in only:
                told[name] = part((a, b))
finally:
    if server:
        server.kill()
        server.wait()
    for name in names:
        subprocess.run(["ip", "netns", "del", name])

if options.write:
    page = f"{source}/docs/weak-links.md"
    with open(page) as f:
        text = f.read()
    for name, part in told.items():
        begin, end = f"<!-- {name} -->\n", f"<!-- {name} end -->"
        i, j = text.index(begin) + len(begin), text.index(end)
        text = text[:i] + part + text[j:]
    with open(page, "w") as f:
        f.write(text)
