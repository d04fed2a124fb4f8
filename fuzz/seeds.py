#!/usr/bin/env python3
"""Makes seeds for fuzz_device: of the traces in tests/traces, and of what is said to a device with users. seeds.py TRACES FOLDER"""
import os, re, struct, sys

PEERS = 4
TIMES = [1, 15, 66, 250, 1100, 2200, 5500, 11000]
ROOMS = [0, 1, 40, 300, 1500, 5000, 40000, 1 << 19]
ERRORS = {"ok": 0, "again": 1, "gone": 2, "limit": 3, "refused": 4, "no-route": 5, "no-room": 6}
PLACES = {"start": 0, "take": 1, "dial": 2, "store": 3, "accept": 4, "udp": 4, "sends": 5}


def nearest(values, wanted):
    return min(range(len(values)), key=lambda i: abs(values[i] - wanted))


def unescape(text):
    """As the traces write bytes; a session is 1 and its number."""
    out, i = b"", 0
    while i < len(text):
        if text[i] == "$" and text[i + 1 : i + 2].isdigit():
            out += bytes([1, ord(text[i + 1]) - 1])
            i += 2
        elif text[i] != "\\":
            out += text[i].encode()
            i += 1
        elif text[i + 1] == "x":
            out += bytes([int(text[i + 2 : i + 4], 16)])
            i += 4
        else:
            out += {"r": b"\r", "n": b"\n"}.get(text[i + 1], text[i + 1].encode())
            i += 2
    return out


def message(kind, number, body):
    head = bytearray(struct.pack(">4sBBBBII", b"\x8fbmb", 1, kind, 0, 0, number, len(body)))
    head[7] = 0x5A
    for i, b in enumerate(head):
        if i != 7:
            head[7] ^= b
    return bytes(head) + body


class Scene:
    def __init__(self, codec):
        self.what, self.more = codec == "h264", 2 | 4 | 8
        self.outlets, self.ops, self.clients, self.changes, self.weak = [0, 1, 3], b"", [], False, False

    def op(self, code, param, rest=b""):
        self.ops += bytes([code | (param & 31) << 3]) + rest

    def peer(self, letter):
        return (ord(letter) - ord("a")) % PEERS if letter.isalpha() else 0

    def say(self, letter, data):
        for at in range(0, len(data), 200):
            part = data[at : at + 200]
            self.op(0, self.peer(letter), bytes([len(part)]) + part)

    def take(self, word):
        name = word[0]
        values = dict(w.split("=", 1) for w in word if "=" in w and name not in ("say", "ask"))
        if name == "feed":
            self.what |= (2 if values.get("storage") == "1" else 0) | (4 if "kbps" in values else 0)
            self.what |= 8 if "keep_controls" in values else 0
            self.more |= 1 if values.get("multicast.always") == "1" else 0
        elif name == "config":
            self.what |= (32 if values.get("feed_count") == "2" else 0) | (64 if "push_count" in values else 0)
        elif name == "group":
            self.what |= 16
        elif name == "outlet" and "kind" in values or "format" in values and name == "outlet":
            self.outlets[int(word[1])] = 3 if values.get("format") == "2" else 2
            self.more |= 16 if values.get("keep_all") == "1" else 0
        elif name == "connect":
            letter = chr(ord("a") + len(self.clients))
            self.clients.append(letter)
            self.op(5, self.peer(letter))
            self.op(4, self.peer(letter) | int(word[1]) << 2 | (16 if len(word) > 2 else 0))
        elif name == "say":
            self.say(word[1], unescape(" ".join(word[2:])))
        elif name == "ask":
            self.say(word[1], message(int(word[2]), int(word[3]), unescape(" ".join(word[4:]))))
        elif name == "hang-up":
            self.op(5, self.peer(word[1]))
        elif name == "sock" and "room" in values:
            self.op(2, self.peer(word[1]), bytes([nearest(ROOMS, int(values["room"]))]))
        elif name == "frame":
            kind = {"key": 0, "cut": 2, "bare": 3}.get(word[3] if len(word) > 3 else "", 0 if not self.what & 1 else 1)
            self.op(1, int(word[1]) | kind << 1, bytes([min(int(word[2]) // 20, 255)]))
        elif name == "run":
            self.op(3, nearest(TIMES, int(word[1])))
        elif name == "play":
            for _ in range(min(int(word[1]) // 66, 60)):
                self.op(1, 0, bytes([min(int(word[2]) // 20, 255)]))
                self.op(3, 2)
        elif name == "datagram":
            data = unescape(word[3])
            self.op(6, 1 | 4 | 8, bytes([len(data)]) + data)
        elif name == "unreachable":
            self.op(6, 2, b"\0")
        elif name == "remove":
            self.op(7, 31)
        elif name == "control":
            self.op(7, 0, bytes([7 | int(word[1]) << 3 | (int(word[2]) & 15) << 4]))
        elif name == "error":
            if word[1] in PLACES:
                self.op(7, 0, bytes([PLACES[word[1]] | ERRORS.get(word[2], 7) << 3]))
        elif name == "camera" and "effective.height" in values:
            self.op(7, 0, bytes([6]))

    def open(self, outlet):
        """Somebody new at an outlet; his letter."""
        letter = chr(ord("a") + len(self.clients))
        self.clients.append(letter)
        self.op(5, self.peer(letter))
        self.op(4, self.peer(letter) | outlet << 2)
        return letter

    def pictures(self, count):
        for _ in range(count):
            self.op(1, 0, bytes([100]))
            self.op(3, 8 | 2)

    def bytes(self):
        outlets = sum(kind << 2 * i for i, kind in enumerate(self.outlets))
        return bytes([int(self.what), self.more, outlets | (192 if self.changes else 128 if self.weak else 0)]) + self.ops


NONCE = "00000000000F42400000000100000000000000000000000000000000"  # of a scene, where all sums are zero
DIGEST = f'Authorization: Digest username="%s", realm="r", nonce="{NONCE}", uri="%s", algorithm=%s, response="%s", qop=auth, nc=%08x, cnonce="c"\r\n'


def proof(name, uri, count=1, sha256=True):
    return DIGEST % (name, uri, "SHA-256" if sha256 else "MD5", "0" * (64 if sha256 else 32), count)


def http(method, path, more=""):
    return f"{method} {path} HTTP/1.1\r\nHost: a\r\n{more}\r\n".encode()


def rtsp(method, number, more="", path="/yard"):
    return f"{method} rtsp://a{path} RTSP/1.0\r\nCSeq: {number}\r\n{more}\r\n".encode()


def guarded():
    """What is said to a device with users, outlet by outlet: HTTP, RTSP, and plain or framed. Yields names and scenes."""
    lent = "A" * 36  # number 0 with no end, and a sum of zeroes
    asks = [
        [("GET", "/who.json", ""), ("POST", "/sign-in", proof("a", "/sign-in")), ("GET", "/who.json", "Cookie: bambino=\x020\r\n"),
         ("GET", "/status.json", "Cookie: x=1; bambino=\x020\r\n"), ("POST", "/lend/yard/5/2", "Cookie: bambino=\x020\r\n"),
         ("POST", "/lend/station/0", "Cookie: bambino=\x020\r\n"), ("POST", "/end-link/1/9", "Cookie: bambino=\x020\r\n"),
         ("POST", "/end-sign-in/0", "Cookie: bambino=\x020\r\n"), ("POST", "/sign-out", "Cookie: bambino=\x020\r\n")],
        [("POST", "/sign-in", proof("w", "/sign-in", 1, False)), ("GET", "/yard.mjpeg", "Cookie: bambino=\x020\r\n"), None,
         ("POST", "/sign-out", "Cookie: bambino=\x020\r\n"), None, None],
        [("GET", f"/lent/{lent}/yard.mjpeg", ""), None, ("GET", f"/lent/{lent}/yard.jpg", ""), ("GET", f"/lent/{lent}/station.ts?x=1", "")],
        [("GET", "/yard.jpg", proof("a", "/yard.jpg", n)) for n in (1, 2, 2, 70, 3, 0)],
        [("GET", "/events", proof("a", "/events")), None, None, ("GET", "/events", "Last-Event-ID: 3\r\n"), None, None, None],
        [("GET", "/yard-320x240.jpg", proof("w", "/yard-320x240.jpg")), ("GET", "/yard.sdp", proof("nobody", "/yard.sdp")),
         ("GET", "/yard.jpg", "Authorization: Bearer abcdef\r\n"), ("GET", "/yard.jpg", "Authorization: Basic YTpi\r\n"),
         ("GET", "/yard.jpg", "Authorization: Odd\r\n"), ("GET", "/none", "")]
        + [("GET", "/yard.jpg", proof("w", "/other"))] * 2 + [("GET", "/yard.jpg", proof("x", "/yard.jpg"))] * 8,
        [("GET", "/yard.jpg", "Origin: http://o\r\n" + proof("a", "/yard.jpg")), ("POST", "/sign-in", "Origin: http://o\r\n"),
         ("GET", "/", "Origin: http://p\r\n"), ("GET", "/", "Origin: http://a\r\n"), ("GET", "/", "User-Agent: Mozilla/5.0\r\n")],
    ]
    for codec, more in [("jpeg", 2 | 4 | 8), ("h264", 2 | 4 | 8 | 16 | 32), ("jpeg", 2 | 8), ("jpeg", 4)]:
        def scene():
            s = Scene(codec)
            s.what, s.more, s.outlets = s.what | 128 | 32, more, [0, 1, 3]
            return s

        for i, ask in enumerate(asks):
            s = scene()
            a = s.open(0)
            for one in ask:
                if one is None:
                    s.pictures(3)
                    s.op(3, 4)
                    a = s.open(0)
                else:
                    s.say(a, http(*one))
                    s.pictures(1)
            yield f"http-{i}-{codec}-{more}", s
        s = scene()
        a = s.open(1)
        digest = proof("a", "rtsp://a/yard")
        for number, (method, extra) in enumerate([
                ("OPTIONS", ""), ("DESCRIBE", ""), ("DESCRIBE", digest), ("DESCRIBE", "Authorization: Bearer abcdef\r\n"),
                ("SETUP", "Transport: RTP/AVP/TCP;unicast;interleaved=0-1\r\n" + digest), ("PLAY", "Session: \x010\r\n" + digest),
                ("GET_PARAMETER", "Session: \x010\r\n" + digest), ("TEARDOWN", "Session: \x010\r\n" + digest)]):
            s.say(a, rtsp(method, number + 1, extra))
            s.pictures(2)
        for n in range(8):
            s.say(a, rtsp("DESCRIBE", 20 + n, proof("x", "rtsp://a/yard")))
        yield f"rtsp-{codec}-{more}", s
        s = scene()
        a = s.open(2)
        s.say(a, message(65, 1, b""))
        s.say(a, message(66, 2, b"\0\0"))
        for name in (b"x", b"w", b"a"):
            s.say(a, message(72, 3, bytes(32) + bytes([len(name)]) + name))
            for kind, body in ((66, b"\0\0"), (67, b""), (69, b"\0\0\0\1\0\0\0\1"), (70, b"\xff\xff"), (71, b"")):
                s.say(a, message(kind, 4, body))
                s.pictures(1)
        yield f"framed-{codec}-{more}", s
        s = scene()
        s.outlets = [0, 1, 2]
        for line in (b"token abcdef\r\n", b"tok", b"GET /\r\n", b"token \n", b""):
            a = s.open(2)
            s.say(a, line)
            s.pictures(3)
            s.op(3, 5)
        yield f"plain-{codec}-{more}", s


def changing():
    """Feeds, outlets and pushes that change under viewers, and requests that the program answers. Yields names and scenes."""
    def body(method, text, more=""):
        return (f"{method} /q HTTP/1.1\r\nHost: a\r\nContent-Length: {len(text)}\r\n{more}\r\n{text}").encode()

    for codec in ("jpeg", "h264"):
        for more in (2 | 4 | 8, 2 | 4 | 8 | 128):
            s = Scene(codec)
            s.more, s.outlets, s.what = more, [0, 1, 2], s.what | 32 | 64
            s.changes = True
            viewers = [s.open(0), s.open(1), s.open(2)]
            s.say(viewers[0], b"GET /yard.mjpeg HTTP/1.1\r\nHost: a\r\n\r\n" if codec == "jpeg" else b"GET /yard.ts HTTP/1.1\r\nHost: a\r\n\r\n")
            s.say(viewers[1], rtsp("SETUP", 1, "Transport: RTP/AVP/TCP;unicast;interleaved=0-1\r\n"))
            s.say(viewers[1], rtsp("PLAY", 2, "Session: \x010\r\n"))
            s.pictures(3)
            for which in (0, 2, 3, 4, 5, 6, 1, 4, 5, 6, 1, 0):
                s.op(2, 0, b"\2")
                s.pictures(2)
                s.op(7, 24 + which)
                s.pictures(2)
                s.op(3, 4)
            s.op(7, 31)
            yield f"changes-{codec}-{more}", s
            s = Scene(codec)
            s.more, s.changes = more, True
            for text in (body("PATCH", "abc"), body("PUT", "x" * 65), body("POST", "x" * 20, "Expect: 100-continue\r\n"), b"DELETE /q HTTP/1.1\r\nHost: a\r\n\r\n",
                         b"GET /q HTTP/1.1\r\nHost: a\r\nIf-None-Match: \"q\"\r\nIf-Match: x\r\nContent-Type: a/b\r\n\r\n", body("PATCH", "no")[:-1], body("PATCH", "y"),
                         b"PATCH /q HTTP/1.1\r\nHost: a\r\nTransfer-Encoding: chunked\r\n\r\n3\r\nabc\r\n0\r\n\r\n", b"PUT /none HTTP/1.1\r\nHost: a\r\n\r\n",
                         b"GET /events/figures HTTP/1.1\r\nHost: a\r\n\r\n"):
                a = s.open(0)
                s.say(a, text)
                s.pictures(2)
            for _ in range(4):
                s.op(3, 4)
                s.pictures(1)
            yield f"service-{codec}-{more}", s


def weak():
    """Viewers whose links carry less, or lose packets; a step, an encoder that follows, a shared uplink, a group with parity."""
    nack = struct.pack(">BBHIIHH", 0x81, 205, 3, 5, 0, 3, 0x11)
    report = struct.pack(">BBHIIBBHIIII", 0x81, 201, 7, 5, 0, 60, 0, 9, 100, 0, 0, 0)
    for codec in ("jpeg", "h264"):
        for more in (2 | 8, 1 | 2 | 8, 2 | 8 | 128):
            s = Scene(codec)
            s.weak, s.more, s.outlets, s.what = True, more, [0, 1, 2], s.what | 16 | 32 | 64
            http_one, by_udp, plain = s.open(0), s.open(1), s.open(2)
            s.say(http_one, b"GET /yard.mjpeg HTTP/1.1\r\nHost: a\r\n\r\n" if codec == "jpeg" else b"GET /yard.ts HTTP/1.1\r\nHost: a\r\n\r\n")
            s.pictures(1)
            s.say(by_udp, rtsp("DESCRIBE", 1, path="/yard.avpf"))
            s.say(by_udp, rtsp("SETUP", 2, "Transport: RTP/AVPF;unicast;client_port=6000-6001\r\n", path="/yard.avpf/video"))
            s.say(by_udp, rtsp("PLAY", 3, "Session: \x010\r\n", path="/yard.avpf"))
            for i in range(40):
                s.pictures(2)
                s.op(1, 1, bytes([50]))  # the step's
                for who in (http_one, plain):
                    s.op(2, s.peer(who), bytes([(2 if i < 20 else 7) | 8]))
                s.op(6, 1 | 4 | 8, bytes([len(nack)]) + nack)
                if i % 5 == 0:
                    s.op(6, 1 | 4 | 8, bytes([len(report)]) + report)
                s.op(3, 3)
            s.say(by_udp, rtsp("TEARDOWN", 4, "Session: \x010\r\n", path="/yard.avpf"))
            yield f"weak-{codec}-{more}", s


def main(traces, folder):
    os.makedirs(folder, exist_ok=True)
    for name, scene in guarded():
        open(f"{folder}/guarded-{name}", "wb").write(scene.bytes())
    for name, scene in weak():
        open(f"{folder}/{name}", "wb").write(scene.bytes())
    for name, scene in changing():
        open(f"{folder}/{name}", "wb").write(scene.bytes())
    for name in sorted(os.listdir(traces)):
        scene, count = None, 0
        for line in open(f"{traces}/{name}"):
            if not line.startswith("> "):
                continue
            word = line[2:].rstrip("\n").split(" ")
            if word[0] == "codec":
                scene, count = Scene(word[1]), count + 1
            elif word[0] == "close":
                name_here = f"{folder}/{name.removesuffix('.trace')}-{count}"
                open(name_here, "wb").write(scene.bytes())
                scene.more |= 128  # and with a port that is lent its frames
                open(name_here + "-lent", "wb").write(scene.bytes())
            elif not (name.startswith("refused") and word[0] == "open"):
                scene.take(word)


main(*sys.argv[1:])
