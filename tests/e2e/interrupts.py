#!/usr/bin/env python3
"""What a change interrupts: every key of the settings is changed while viewers of every kind watch, with HTTPS beside HTTP, and the
table that the device tells (`notice` of the details) has to hold. interrupts.py PATH-OF-BAMBINO"""
import json, os, re, socket, struct, sys, threading

from ports import free_port
from running import ANY_CERTIFICATE, Checks, Device, wait_for

command, check = os.path.abspath(sys.argv[1]), Checks()
CONFIG = """[device]
name = Valley railway
state = keep
viewers = 16
[http]
listen = 127.0.0.1:0
secure = 127.0.0.1:0
plain = yard,loco
[rtsp]
listen = 127.0.0.1:0
[tcp all]
listen = 127.0.0.1:0
format = framed
[tcp yard]
listen = 127.0.0.1:0
[push away]
feed = yard
to = udp://127.0.0.1:9
[camera yard]
view = yard
[camera loco]
view = cab
[feed yard]
size = 320x240
rate = 30
open = 1
[feed loco]
size = 160x120
rate = 30
open = 1
"""
# What another value is, where the details do not tell one.
OTHER = {("device", "name"): "Hill railway", ("device", "names"): "any", ("device", "origins"): "http://club.example", ("device", "memory"): "500M",
         ("device", "reserve"): "9M", ("network", "ssid"): "Valley", ("network", "uplink-kbps"): 100000, ("feed", "kbps"): 900, ("http", "listen"): None, ("http", "secure"): None, ("http", "plain"): "loco,yard",
         ("rtsp", "listen"): None, ("rtsp", "secure"): None, ("rtsp", "plain"): None, ("feed", "camera"): "loco", ("feed", "title"): "Sidings",
         ("feed", "preview"): "loco", ("feed", "size"): "640x480", ("feed", "step"): None, ("feed", "multicast"): "239.255.42.9:5004",
         ("feed", "reel"): "300K", ("feed", "frame-max"): "60K", ("feed", "codec"): "h264", ("tcp", "hosts"): "127.0.0.9", ("tcp", "feed"): "loco",
         ("push", "to"): "udp://127.0.0.1:8", ("push", "interface"): None, ("push", "fingerprint"): None, ("push", "feed"): "loco",
         ("tcp", "listen"): None, ("push", "sdp"): None, ("tcp", "secure"): None, ("camera", "codec"): None}


class Viewer(threading.Thread):
    """Counts what it gets; `over` when the other end closed."""

    def __init__(self, what, feed, connect):
        super().__init__(daemon=True)
        self.what, self.feed, self.bytes, self.over = what, feed, 0, False
        self.sock, self.ears = connect()
        self.start()

    def run(self):
        try:
            while True:
                piece = self.ears.recv(65536)
                if not piece:
                    break
                self.bytes += len(piece)
        except OSError:
            pass
        self.over = True

    def goes_on(self):
        if self.ears is not self.sock:  # over UDP a session lives by what its client says
            self.sock.sendall(b"OPTIONS * RTSP/1.0\r\nCSeq: 9\r\n\r\n")
        before = self.bytes
        return wait_for(lambda: self.bytes > before or self.over, 30) and not self.over

    def end(self):
        for s in {self.sock, self.ears}:
            try:
                s.shutdown(socket.SHUT_RDWR)
            except OSError:
                pass
            s.close()


def say(s, text):
    s.sendall(text.encode())
    return s.recv(4096).decode(errors="replace")


def rtsp(address, feed, ears=None):
    s = socket.create_connection(("127.0.0.1", address), 20)
    how = f"RTP/AVP;unicast;client_port={ears.getsockname()[1]}-{ears.getsockname()[1] + 1}" if ears else "RTP/AVP/TCP;unicast;interleaved=0-1"
    head = f"rtsp://127.0.0.1:{address}/{feed}"
    answer = say(s, f"SETUP {head}/video RTSP/1.0\r\nCSeq: 1\r\nTransport: {how}\r\n\r\n")
    session = re.search(r"Session: (\w+)", answer)[1]
    say(s, f"PLAY {head} RTSP/1.0\r\nCSeq: 2\r\nSession: {session}\r\n\r\n")
    return s, ears or s


def pair():
    while True:
        ears = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        ears.bind(("127.0.0.1", 0))
        if ears.getsockname()[1] % 2 == 0:
            return ears
        ears.close()


def http(port, feed, secure=False):
    """Signed in, so that a feed that is not open to all any more goes on."""
    s = socket.create_connection(("127.0.0.1", port), 20)
    if secure:
        s = ANY_CERTIFICATE.wrap_socket(s)
    s.sendall(f"GET /{feed}.mjpeg HTTP/1.1\r\nHost: 127.0.0.1\r\nAuthorization: {TOKEN['Authorization']}\r\n\r\n".encode())
    return s, s


def framed(port, number):
    s = socket.create_connection(("127.0.0.1", port), 20)
    body = struct.pack(">H", number)
    head = bytearray(b"\x8f\x62\x6d\x62" + bytes([1, 66, 0, 0]) + struct.pack(">II", 1, len(body)))
    total = 0x5A
    for b in head:
        total ^= b
    head[7] = total
    s.sendall(bytes(head) + body)
    return s, s


device = Device(command, CONFIG)
os.mkdir(device.path("keep"))
device.users("add", "anna", "--may", "administer", text="the red signal\n")
made = device.users("add", "clerk", "--program", "--may", "administer").stdout
TOKEN = {"Authorization": "Bearer " + re.search(r"only now: (\S+)", made)[1]}
# Ports stay over an opening, so that viewers find the device again.
PORTS = {name: free_port() for name in ("http", "https", "rtsp", "framed", "raw")}
text = open(device.config).read()
for name, place in (("http", "listen = 127.0.0.1:0\nsecure"), ("https", "secure = 127.0.0.1:0"), ("rtsp", "[rtsp]\nlisten = 127.0.0.1:0"),
                    ("framed", "[tcp all]\nlisten = 127.0.0.1:0"), ("raw", "[tcp yard]\nlisten = 127.0.0.1:0")):
    text = text.replace(place, place.replace("127.0.0.1:0", f"127.0.0.1:{PORTS[name]}"))
open(device.config, "w").write(text)
device.start()
device.http = f"https://127.0.0.1:{PORTS['https']}"  # as the documented set-up has it


def ask(path, method="GET", body=None):
    headers = {**TOKEN, "Content-Type": "application/json"}
    status, answer = device.ask(path, json.dumps(body).encode() if body is not None else None, method, headers)
    return status, answer.decode(errors="replace")


def signed_in():
    return '"name":"anna"' in device.ask("/who.json", headers=cookie)[1].decode(errors="replace")


viewers = []


def watch_all():
    """One of each kind at the other feed, and one at the feed that is changed."""
    while viewers:
        viewers.pop().end()
    number = 1
    ways = [("HTTP, the feed itself", "yard", lambda: http(PORTS["http"], "yard")), ("HTTP", "loco", lambda: http(PORTS["http"], "loco")),
            ("HTTPS", "loco", lambda: http(PORTS["https"], "loco", True)), ("RTSP over TCP", "loco", lambda: rtsp(PORTS["rtsp"], "loco")),
            ("RTSP over UDP", "loco", lambda: rtsp(PORTS["rtsp"], "loco", pair())), ("framed", "loco", lambda: framed(PORTS["framed"], number))]
    for way in ways:
        def begun():
            try:
                viewers.append(Viewer(*way))
                return True
            except (OSError, TypeError):
                return False
        wait_for(begun, 30)
    return all(v.goes_on() for v in viewers)


cookie = device.sign_in("anna", "the red signal")
check("all watch", watch_all(), [(v.what, v.bytes) for v in viewers])
check("signed in", signed_in())



def change(patch):
    """Another change may be on its way into force."""
    answers = []
    wait_for(lambda: answers.append(ask("/settings", "PATCH", patch)) or answers[-1][0] not in (0, 409), 30)
    return answers[-1]


def is_due():
    return ask("/settings", "PATCH", {})[0] == 409


def other_value(row):
    section, key, now = row["section"], row["key"], row.get("value")
    if (section, key) in OTHER:
        return OTHER[(section, key)]
    if row.get("choices"):
        return next((c for c in row["choices"] if c not in (now, row.get("asked"), "auto")), None)
    if "least" not in row or "most" not in row:
        return None
    step, now = row.get("step", 1), now if isinstance(now, (int, float)) else row["least"]
    return now + step if now + step <= row["most"] else now - step


def patch_of(row, value):
    section, name = row["section"], row.get("name", "")
    return {section: {name: {row["key"]: value}} if name else {row["key"]: value}}


rows = json.loads(ask("/settings/details")[1])["settings"]
tried, openers = {}, []
for row in rows:
    section, name, key, notice = row["section"], row.get("name", ""), row["key"], row["notice"]
    value = other_value(row)
    if value is None or name not in ("", "yard", "away") or (section, name) == ("tcp", "all"):
        continue
    if notice == "all-new":
        openers.append((row, value))
        continue
    openings, status, answer = device.told().count("Ctrl-C"), *change(patch_of(row, value))
    if status in (403, 422):  # of the file alone, or not beside the other settings
        continue
    what = f"[{section}{' ' + name if name else ''}] {key} = {value}"
    check(f"{what} is taken", status in (200, 202), (status, answer))
    tried[key] = notice
    wait_for(lambda: not is_due(), 20)
    stay = [v for v in viewers if v.feed == "loco" or notice in ("nothing", "gap")]
    cut = [v.what for v in stay if not v.goes_on()]
    check(f"{what} ({notice}) interrupts nobody else", not cut, cut)
    check(f"{what}: the device is not opened anew", device.told().count("Ctrl-C") == openings)
    check(f"{what}: who was signed in still is", signed_in())
    if notice == "new-connection" or key in ("names", "open"):  # back to what it was
        change(patch_of(row, row.get("asked", row.get("value"))))
        if any(v.over for v in viewers):
            check(f"after {what} all watch again", watch_all(), [(v.what, v.bytes, v.over) for v in viewers])

# Those that take opening anew, all at once where they may be; and who was signed in still is.
dangerous = [(r, v) for r, v in openers if r["section"] == "http" or r["key"] in ("memory", "request-buffer", "ssid", "reserve")]
for group in ([o for o in openers if o not in dangerous], dangerous):
    patch = {}
    for row, value in group:
        part = patch.setdefault(row["section"], {})
        (part.setdefault(row["name"], {}) if row.get("name") else part)[row["key"]] = value
    openings, status, answer = device.told().count("Ctrl-C"), *change(patch)
    check(f"{sorted(r['key'] for r, _ in group)} are taken", status == 202, (status, answer))
    check("the device is opened anew", wait_for(lambda: device.told().count("Ctrl-C") > openings, 30), device.told()[-500:])
    check("who was signed in still is", wait_for(signed_in, 30))
    tried.update({r["key"]: "all-new" for r, _ in group})
    check("all watch again", watch_all(), [(v.what, v.bytes, v.over) for v in viewers])
by = {notice: sorted(k for k in tried if tried[k] == notice) for notice in ("nothing", "gap", "new-connection", "all-new")}
check("keys of every kind were tried", all(by.values()) and len(tried) > 40, {k: len(v) for k, v in by.items()})
for notice, keys in by.items():
    print(f"{notice}: {', '.join(keys)}")
check("it stops", device.stop() == 0)
check.end()
