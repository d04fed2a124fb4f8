#!/usr/bin/env python3
"""Changes of size, rate and codec at random, under ten viewers of all protocols: none hangs, none gets a broken picture,
and the memory stays what it was.

    changes.py PATH-OF-BAMBINO [CHANGES]
"""
import http.client
import json
import os
import random
import shutil
import socket
import struct
import subprocess
import sys
import tempfile
import threading
import time

from ports import free_port

COMMAND, CHANGES = sys.argv[1], int(sys.argv[2]) if len(sys.argv) > 2 else 120
SIZES = ["160x120", "320x240", "640x480", "640x360", "1280x720"]
stopping = False


HTTP, RTSP, RAW, FRAMED = (free_port() for _ in range(4))


class Viewer(threading.Thread):
    """Comes again whenever it is ended, as viewers do; counts pictures, and what no picture may be."""

    def __init__(self, feed):
        super().__init__(daemon=True)
        self.feed, self.pictures, self.broken, self.comings, self.last, self.why = feed, 0, 0, 0, time.time(), ""
        self.start()

    def run(self):
        while not stopping:
            self.comings += 1
            try:
                self.watch()
            except (OSError, ValueError, EOFError, struct.error):
                pass
            time.sleep(0.05)

    def picture(self, good=True, why=""):
        self.pictures += 1
        self.last = time.time()
        if not good:
            self.broken += 1
            self.why = why


def whole_jpeg(data):
    return data[:2] == b"\xff\xd8" and data[-2:] == b"\xff\xd9" and b"\xff\xc0" in data


class Reader:
    def __init__(self, port, say=b""):
        self.socket = socket.create_connection(("127.0.0.1", port), 3)
        self.socket.settimeout(3)
        self.socket.sendall(say)
        self.data = b""

    def fill(self):
        more = self.socket.recv(65536)
        if not more:
            raise EOFError
        self.data += more

    def take(self, n):
        while len(self.data) < n:
            self.fill()
        out, self.data = self.data[:n], self.data[n:]
        return out

    def until(self, mark):
        while mark not in self.data:
            self.fill()
        at = self.data.index(mark) + len(mark)
        return self.take(at)

    def __enter__(self):
        return self

    def __exit__(self, *_):
        self.socket.close()


class Mjpeg(Viewer):
    def watch(self):
        with Reader(HTTP, f"GET /{self.feed}.mjpeg HTTP/1.1\r\nHost: localhost\r\n\r\n".encode()) as r:
            if b" 200 " not in r.until(b"\r\n\r\n"):
                time.sleep(0.3)
                return
            while not stopping:
                head = r.until(b"\r\n\r\n")
                size = int(head.lower().split(b"content-length:")[1].split(b"\r\n")[0])
                self.picture(whole_jpeg(r.take(size)), "no whole JPEG")


class Raw(Viewer):
    """Images, or an Annex B stream, that begins at a key frame with its parameter sets."""

    def watch(self):
        with Reader(RAW) as r:
            begins = r.take(5)
            if begins[:2] == b"\xff\xd8":
                r.data = begins + r.data
                while not stopping:
                    image = r.until(b"\xff\xd9")
                    if r.data[:2] not in (b"", b"\xff\xd8"):
                        continue  # an end within the data is none
                    self.picture(image[:2] == b"\xff\xd8" or True)
            else:
                self.picture(begins[:4] == b"\0\0\0\1" and begins[4] & 31 in (7, 9), f"begins with {begins.hex()}")
                while not stopping:
                    r.until(b"\0\0\0\1")
                    self.picture()


class Ts(Viewer):
    def watch(self):
        with Reader(HTTP, f"GET /{self.feed}.ts HTTP/1.1\r\nHost: localhost\r\n\r\n".encode()) as r:
            if b" 200 " not in r.until(b"\r\n\r\n"):
                time.sleep(0.3)
                self.last = time.time()  # it is not H.264 just now
                return
            counters = {}
            while not stopping:
                packet = r.take(188)
                pid, control, counter = (packet[1] & 31) << 8 | packet[2], packet[3] >> 4 & 3, packet[3] & 15
                good = packet[0] == 0x47 and (pid not in counters or not control & 1 or counter == (counters[pid] + 1) % 16)
                counters[pid] = counter if control & 1 else counters.get(pid, counter)
                if packet[1] & 0x40 or not good:
                    self.picture(good, "continuity")


class Framed(Viewer):
    def watch(self):
        with Reader(FRAMED) as r:
            mine, asked = None, None
            while not stopping:
                sync, _, kind, _, _, _, length = struct.unpack(">4sBBBBII", r.take(16))
                body = r.take(length)
                if sync != b"\x8fbmb":
                    self.picture(False, "no header")
                    return
                if kind == 2 and body[16:17 + body[16]][1:].decode(errors="replace") == self.feed or (kind == 2 and self.feed.encode() in body):
                    mine = struct.unpack(">HBBHHI", body[:12])
                if mine and asked != mine[1]:  # with another codec it is another stream, which is asked for anew
                    asked = mine[1]
                    part = struct.pack(">BBBBII", 1, 66, 0, 0, 1, 2)
                    total = 0x5A
                    for byte in b"\x8fbmb" + part:
                        total ^= byte
                    r.socket.sendall(b"\x8fbmb" + struct.pack(">BBBBII", 1, 66, 0, total, 1, 2) + struct.pack(">H", mine[0]))
                if kind == 3:
                    data = next((body[k:] for k in (32, 24, 40, 28, 36, 20) if body[k:k + 2] == b"\xff\xd8" or body[k:k + 4] == b"\0\0\0\1"), b"")
                    good = whole_jpeg(data) if data[:2] == b"\xff\xd8" else data[:3] in (b"\0\0\0", b"\0\0\1")
                    self.picture(good, f"frame {body[:44].hex()}")


class Rtp:
    """What came of one stream: sequence numbers without a gap, images of RFC 2435 without a hole."""

    def __init__(self, viewer, strict):
        self.viewer, self.strict, self.next, self.expects, self.lost = viewer, strict, None, 0, True

    def packet(self, p):
        kind, sequence = p[1] & 127, struct.unpack(">H", p[2:4])[0]
        gap = self.next is not None and sequence != self.next
        if gap and self.strict:
            self.viewer.picture(False, "a gap in the sequence")
        self.lost = self.lost or gap
        self.next = sequence + 1 & 0xFFFF
        if kind == 26:
            at = int.from_bytes(p[13:16], "big")
            head = 8 + (4 if p[16] >= 64 else 0)
            tables = 4 + struct.unpack(">H", p[12 + head + 2:12 + head + 4])[0] if p[17] >= 128 and at == 0 else 0
            if at == 0:
                self.expects, self.lost = 0, False
            hole = at != self.expects and not self.lost
            self.expects = at + len(p) - 12 - head - tables
            if hole:
                self.viewer.picture(False, "a hole in an image")
        if p[1] & 128:
            self.viewer.picture()


class Rtsp(Viewer):
    def __init__(self, feed, udp):
        self.udp = udp
        super().__init__(feed)

    def watch(self):
        url = f"rtsp://127.0.0.1:{RTSP}/{self.feed}"
        sockets = []
        if self.udp:
            sockets = [socket.socket(socket.AF_INET, socket.SOCK_DGRAM) for _ in range(2)]
            for s in sockets:
                s.bind(("127.0.0.1", 0))
                s.settimeout(1.5)
        transport = f"RTP/AVP;unicast;client_port={sockets[0].getsockname()[1]}-{sockets[1].getsockname()[1]}" if self.udp else "RTP/AVP/TCP;unicast;interleaved=0-1"
        with Reader(RTSP) as r:
            session, number = "", 0
            for method, extra in (("SETUP", f"Transport: {transport}\r\n"), ("PLAY", "")):
                number += 1
                where = f"{url}/video" if method == "SETUP" else url
                r.socket.sendall(f"{method} {where} RTSP/1.0\r\nCSeq: {number}\r\n{extra}{session}\r\n".encode())
                head = r.until(b"\r\n\r\n").decode()
                if " 200 " not in head:
                    time.sleep(0.3)
                    return
                session = f"Session: {head.split('Session: ')[1].split(';')[0].split()[0]}\r\n"
            rtp = Rtp(self, not self.udp)
            try:
                while not stopping:
                    if self.udp:
                        try:
                            rtp.packet(sockets[0].recv(70000))
                        except TimeoutError:
                            return  # the session has ended, or the stream pauses: it comes again
                    else:
                        mark, channel, size = struct.unpack(">BBH", r.take(4))
                        data = r.take(size)
                        if mark != 0x24:
                            self.picture(False, "no frame of an interleaved stream")
                            return
                        if channel == 0:
                            rtp.packet(data)
            finally:
                for s in sockets:
                    s.close()


class Pushed(Viewer):
    def __init__(self, feed):
        self.socket = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        self.socket.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 1 << 22)
        self.socket.bind(("127.0.0.1", 0))
        self.socket.settimeout(3)
        self.port = self.socket.getsockname()[1]
        super().__init__(feed)

    def watch(self):
        rtp = Rtp(self, False)
        while not stopping:
            rtp.packet(self.socket.recv(70000))


def resident(pid):
    with open(f"/proc/{pid}/status") as f:
        return int(next(line for line in f if line.startswith("VmRSS")).split()[1])


def patch(changes):
    c = http.client.HTTPConnection("127.0.0.1", HTTP, timeout=8)
    c.request("PATCH", "/settings", json.dumps(changes), {"Content-Type": "application/merge-patch+json", "Authorization": f"Bearer {token}"})
    r = c.getresponse()
    body = r.read()
    c.close()
    return r.status, body


folder = tempfile.mkdtemp(prefix="bambino-changes-")
os.mkdir(os.path.join(folder, "keep"))
config = os.path.join(folder, "railway.ini")
pushed = Pushed("yard")
with open(config, "w") as f:
    f.write(f"[device]\nname = Valley railway\nstate = keep\nevents = 16\nhost-viewers = 4000\nviewers = 40\n[http]\nlisten = 127.0.0.1:{HTTP}\n[rtsp]\nlisten = 127.0.0.1:{RTSP}\n"
            f"[camera yard]\nview = yard\n[feed yard]\nsize = 320x240\nrate = 15\n[tcp yard]\nlisten = 127.0.0.1:{RAW}\nformat = raw\n"
            f"[tcp all]\nlisten = 127.0.0.1:{FRAMED}\nformat = framed\n[push yard]\nto = udp://127.0.0.1:{pushed.port}\nformat = rtp\n")
out = subprocess.run([COMMAND, "users", config, "add", "bot", "--program", "--may", "administer"], capture_output=True, text=True, check=True).stdout
token = next(word for word in out.split() if len(word) == 32)
with open(config, "a") as f:
    f.write("[feed open]\ncamera = yard\nsize = 320x240\nopen = 1\n")
with open(config) as f:
    text = f.read().replace("[device]\n", "[device]\nanybody = watch\n")
with open(config, "w") as f:
    f.write(text)
log = open(os.path.join(folder, "log"), "w")
device = subprocess.Popen([COMMAND, "run", config, "--for", "900"], stdout=log, stderr=log)
for _ in range(100):
    try:
        socket.create_connection(("127.0.0.1", FRAMED)).close()
        break
    except OSError:
        time.sleep(0.05)
viewers = {"MJPEG": Mjpeg("yard"), "MJPEG of another": Mjpeg("open"), "RTP over TCP": Rtsp("yard", False), "RTP over TCP, too": Rtsp("yard", False),
           "RTP over UDP": Rtsp("yard", True), "RTP over UDP, too": Rtsp("yard", True), "TS": Ts("yard"), "raw": Raw("yard"), "framed": Framed("yard"), "push": pushed}
time.sleep(1)
# Each viewer gets something, whatever the dice say then: one of them shows H.264 only.
for codec, seconds in (("h264", 2), ("jpeg", 1)):
    patch({"feed": {"yard": {"codec": codec}}})
    time.sleep(seconds)
# Encoders come and go, and memory with them: it is compared where the device has been brought to the same settings.
SAME = {"feed": {"yard": {"codec": "jpeg", "size": "320x240", "rate": 15}, "open": {"codec": "jpeg", "size": "320x240", "rate": 15}}}
ROUNDS = 12 if CHANGES >= 300 else 2
good, refused, sizes, rests = True, 0, [], []
seed = int(os.environ.get("SEED", random.randrange(1 << 30)))
dice = random.Random(seed)
for i in range(CHANGES):
    if device.poll() is None:
        sizes.append(resident(device.pid))
    to = {"size": dice.choice(SIZES), "rate": dice.choice([5, 10, 15, 30])}
    if dice.random() < 0.3:
        to["codec"] = dice.choice(["jpeg", "h264"])
    if dice.random() < 0.3:
        to["quality" if to.get("codec") == "jpeg" else "brightness"] = dice.randrange(20, 90)
    status, body = patch({"feed": {dice.choice(["yard", "yard", "open"]): to}})
    refused += status == 422
    if status not in (200, 422):
        good = False
        print(f"change {i} to {to}: {status} {body}")
    if device.poll() is not None:
        break
    if (i + 1) % (CHANGES // ROUNDS) == 0:
        patch(SAME)
        time.sleep(1)
        rests.append(resident(device.pid))
    time.sleep(dice.random() * 0.12)
patch(SAME)
time.sleep(5)
now, lines = time.time(), []
for name, v in viewers.items():
    quiet = now - v.last
    fine = v.broken == 0 and quiet < 4 and v.pictures > 0
    good = good and fine
    lines.append(f"{name}: {v.pictures} pictures, came {v.comings} times{'' if fine else f', {v.broken} BROKEN ({v.why}), quiet for {quiet:.1f} s'}")
# What leaks lifts it from each round to the next; an encoder's first large picture lifts it once, whenever that comes.
steps = sorted(b - a for a, b in zip(rests[2:], rests[3:]))
grown = steps[len(steps) // 2] * len(steps) if steps else 0
stopping = True
if device.poll() is None:
    device.terminate()
code = device.wait(10)
# Few changes do not show it: each size takes memory when it first comes.
good = good and code == 0 and len(sizes) == CHANGES and (grown < 6000 or CHANGES < 300)
lines.append(f"{CHANGES} changes, {refused} refused; {max(sizes)} KiB of memory at most, {rests} at the same settings, grew by {grown}; it ended with {code}; seed {seed}")
if not good:
    print(open(os.path.join(folder, "log")).read()[-1500:])
print("\n".join(lines))  # last: of a long output the end is what is seen
shutil.rmtree(folder)
print(f"{int(good)} passed, {int(not good)} failed")
sys.exit(not good)
