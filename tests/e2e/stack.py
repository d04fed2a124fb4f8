#!/usr/bin/env python3
"""ports/poll on lwIP's sockets, with lwIP's thread and no loopback interface, as an RTOS has them: a device that this machine's own
stack and players watch over a tap interface, and the port check across it. stack.py DEVICE CLIP"""
import os, subprocess, sys, tempfile

from running import Checks, go_apart, wait_for

go_apart()
run = lambda *words: subprocess.run(words, check=True)
try:
    run("ip", "tuntap", "add", "dev", "tap0", "mode", "tap")
except subprocess.CalledProcessError:
    print("no tap interface can be had")
    sys.exit(77)
run("ip", "addr", "add", "192.0.2.1/24", "dev", "tap0")
run("ip", "link", "set", "tap0", "up")
run("ip", "link", "set", "lo", "up")
check, (device, clip) = Checks(), (os.path.abspath(word) for word in sys.argv[1:])
folder = tempfile.mkdtemp(prefix="bambino-stack-")
log = os.path.join(folder, "log")
HTTP, RTSP = "http://192.0.2.2:8080", "rtsp://192.0.2.2:8554"


def text():
    with open(log, errors="replace") as f:
        return f.read()


def call(*words):
    return subprocess.run(["timeout", "30", *words], capture_output=True, text=True)


with open(log, "w") as out:
    p = subprocess.Popen([device, "120", clip], stdout=out, stderr=subprocess.STDOUT, env={**os.environ, "PRECONFIGURED_TAPIF": "tap0"})
try:
    check("it serves", wait_for(lambda: "serves" in text() or p.poll() is not None) and p.poll() is None, text())
    check("a wake that cannot reach itself is told at opening", "a wake by a socket: unsupported" in text(), text())
    check("and a clock that is missing", "without a clock: unsupported" in text(), text())
    picture = os.path.join(folder, "loco.jpg")
    r = call("curl", "-s", "-m", "20", "-o", picture, HTTP + "/loco.jpg")
    with open(picture, "rb") as f, open(clip, "rb") as whole:
        got = f.read()
        check("a snapshot, byte for byte", r.returncode == 0 and len(got) > 1000 and got in whole.read(), (r, len(got)))
    check("the status", '"feeds"' in call("curl", "-s", "-m", "20", HTTP + "/status.json").stdout)
    check("a live stream", call("ffmpeg", "-v", "error", "-i", HTTP + "/loco.mjpeg", "-frames:v", "20", "-f", "null", "-").returncode == 0)
    for way in ("udp", "tcp"):
        r = call("ffmpeg", "-v", "error", "-rtsp_transport", way, "-i", RTSP + "/loco", "-frames:v", "20", "-f", "null", "-")
        check(f"RTSP over {way}", r.returncode == 0, r.stderr)
    r = call("curl", "-s", "-m", "5", "http://192.0.2.2:9/")
    check("a port that nobody listens at refuses", r.returncode == 7, r)
    p.terminate()
    check("no option was refused", wait_for(lambda: p.poll() is not None, 60) and "refused options: \n" in text(), text()[-300:])
    check("and it ended well", p.wait(1) == 0)
finally:
    if p.poll() is None:
        p.kill()
    p.wait()

# What a port must do, asked from across the network: its peers are sockets of this machine.
r = subprocess.run(["timeout", "150", device, "check", clip], capture_output=True, text=True, env={**os.environ, "PRECONFIGURED_TAPIF": "tap0"})
lines = [line for line in (r.stdout + r.stderr).splitlines() if "FAILED" in line or "LINE" in line or "ERROR" in line]
check("the port check across a network", r.returncode == 0, "\n".join(lines[-20:]) + r.stdout[-300:])
check.end()
