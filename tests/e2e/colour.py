#!/usr/bin/env python3
"""A grey ramp keeps its greys by every codec and format, from raw pictures of every range, and decoders are told which it is.
colour.py PATH-OF-BAMBINO"""
import json, os, subprocess, sys
from running import Checks, Device, wait_for

command, check = os.path.abspath(sys.argv[1]), Checks()
WIDTH, HEIGHT, STEPS = 640, 160, 16
GREYS = [round(i * 255 / (STEPS - 1)) for i in range(STEPS)]
SOURCE = """import sys, time
greys, width, height, kind = %r, %d, %d, sys.argv[1]
def row(value):
    return [value(g) for g in greys for _ in range(width // len(greys))]
limited = lambda g: round(16 + g * 219 / 255)
if kind == "rgb24":
    picture = bytes(v for g in row(lambda g: g) for v in (g, g, g)) * height
elif kind == "yuyv":
    picture = bytes(v for g in row(limited) for v in (g, 128)) * height
else:
    picture = bytes(row(limited)) * height + bytes([128]) * (width * height // 2)
while True:
    sys.stdout.buffer.write(picture)
    sys.stdout.buffer.flush()
    time.sleep(1 / 15)
""" % (GREYS, WIDTH, HEIGHT)
device = Device(command, None)
with open(device.path("ramp.py"), "w") as f:
    f.write(SOURCE)
config = "[http]\nlisten = 127.0.0.1:0\n[rtsp]\nlisten = 127.0.0.1:0\n"
for kind in ("rgb24", "yuyv", "i420"):
    config += (f"[camera {kind}]\nprogram = {sys.executable} {device.path('ramp.py')} {kind}\nformat = {kind}\nraw-size = {WIDTH}x{HEIGHT}\n"
               f"[feed {kind}-jpeg]\ncamera = {kind}\ncodec = jpeg\nsize = {WIDTH}x{HEIGHT}\nquality = 90\n"
               f"[feed {kind}-h264]\ncamera = {kind}\ncodec = h264\nsize = {WIDTH}x{HEIGHT}\nkbps = 4000\n")
with open(device.config, "w") as f:
    f.write(config)
device.start()
rtsp = next(line.split("/")[2] for line in device.told().split() if line.startswith("rtsp://"))


def steps(address, *how):
    """The mean of each step as an independent decoder shows it, in RGB; [] where it shows nothing."""
    r = subprocess.run(["timeout", "60", "ffmpeg", "-v", "error", *how, "-i", address, "-frames:v", "8", "-f", "rawvideo", "-pix_fmt", "rgb24", "-"],
                       capture_output=True)
    size = WIDTH * HEIGHT * 3
    if len(r.stdout) < size:
        return []
    picture, means, wide = r.stdout[-size:], [], WIDTH // STEPS
    for i in range(STEPS):
        total = count = 0
        for y in range(20, HEIGHT - 20, 8):
            at = (y * WIDTH + i * wide + 8) * 3
            piece = picture[at:at + (wide - 16) * 3]
            total, count = total + sum(piece), count + len(piece)
        means.append(total / count)
    return means


for kind in ("rgb24", "yuyv", "i420"):
    for what, address, how in ((f"{kind}, MJPEG over HTTP", f"{device.http}/{kind}-jpeg.mjpeg", ("-f", "mpjpeg")),
                               (f"{kind}, JPEG by RTP", f"rtsp://{rtsp}/{kind}-jpeg", ("-rtsp_transport", "tcp")),
                               (f"{kind}, H.264 by RTP", f"rtsp://{rtsp}/{kind}-h264", ("-rtsp_transport", "tcp")),
                               (f"{kind}, H.264 in a transport stream", f"{device.http}/{kind}-h264.ts", ())):
        means = steps(address, *how)
        worst = max((abs(m - g) for m, g in zip(means, GREYS)), default=999)
        check(f"{what}: each grey within 2", worst <= 2, [round(m, 1) for m in means])
probe = subprocess.run(["timeout", "60", "ffprobe", "-v", "error", "-rtsp_transport", "tcp", "-show_streams", "-of", "json", f"rtsp://{rtsp}/yuyv-h264"],
                       capture_output=True, text=True)
stream = json.loads(probe.stdout or "{}").get("streams", [{}])[0]
told = [stream.get(k) for k in ("color_range", "color_space", "color_primaries", "color_transfer")]
check("the range and the space are told", told == ["pc", "smpte170m", "bt709", "iec61966-2-1"], told)
device.stop()
check.end()
