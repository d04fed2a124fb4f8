#!/usr/bin/env python3
"""Watches a feed over the framed protocol (docs/framed.md), with nothing but Python's standard library.

    framed_viewer.py HOST:PORT                     list the feeds
    framed_viewer.py HOST:PORT yard                watch one, a line each second
    framed_viewer.py HOST:PORT yard --save out     and write its frames into out/ (.jpg), or one out/yard.h264
    framed_viewer.py HOST:PORT yard --set quality=40 --key --status
    framed_viewer.py HOST:PORT yard --user ben     sign in; asks for the password, or takes a line of standard input
"""
import argparse
import getpass
import hashlib
import hmac
import json
import os
import socket
import struct
import sys
import time

SYNC = b"\x8fbmb"
VERSION = 1
HEADER = struct.Struct(">4sBBBBII")  # sync, version, type, flags, check, number, length
HELLO, FEED, FRAME, ALIVE, ANSWER, STATUS, BYE, CHALLENGE = range(1, 9)
ASK_HELLO, ASK_FEED, ASK_KEY, ASK_PAUSE, ASK_CONTROL, ASK_STATUS, ASK_ALIVE, ASK_SIGN_IN = range(65, 73)
CODECS = ["jpeg", "h264"]
CONTROLS = ["quality", "kbps", "key-ms", "flip-h", "flip-v", "brightness", "contrast", "saturation",
            "sharpness", "rotate", "exposure-us", "gain", "white-k", "flicker", "night", "illumination"]
REASONS = ["ok", "again", "gone", "bad-argument", "bad-data", "no-memory", "no-room", "limit", "in-use", "not-found",
           "denied", "unknown", "unsupported", "timed-out", "no-route", "refused", "failed"]
NO_FEED = 0xFFFF
LOST = 1 << 16  # bytes without any header


def check_of(header):
    total = 0x5A
    for byte in header:
        total ^= byte
    return total


def message(kind, number=0, body=b"", flags=0, version=VERSION):
    header = HEADER.pack(SYNC, version, kind, flags, 0, number, len(body))
    return header[:7] + bytes([check_of(header)]) + header[8:] + body


class Stream:
    """Messages out of a stream of bytes; after damage it goes on at the next header that is one."""

    def __init__(self, read):
        self.read, self.data, self.skipped = read, b"", 0

    def fill(self, size):
        while len(self.data) < size:
            more = self.read(65536)
            if not more:
                raise EOFError
            self.data += more

    def next(self):
        while True:
            self.fill(HEADER.size)
            if self.data.startswith(SYNC) and check_of(self.data[:HEADER.size]) == 0:
                sync, version, kind, flags, check, number, length = HEADER.unpack(self.data[:HEADER.size])
                self.fill(HEADER.size + length)
                body, self.data = self.data[HEADER.size:HEADER.size + length], self.data[HEADER.size + length:]
                return kind, flags, number, body
            at = self.data.find(SYNC[:1], 1)
            gone = at if at > 0 else len(self.data)
            self.skipped += gone
            if self.skipped > LOST:
                sys.exit("this is not the framed protocol; check the port, and format = framed in its section")
            self.data = self.data[gone:]


def parse_feed(body):
    index, codec, removed, width, height, mfps = struct.unpack_from(">HBBHHI", body)
    at, texts = 12, []
    for _ in range(2):
        texts.append(body[at + 1:at + 1 + body[at]].decode())
        at += 1 + body[at]
    sets = []
    for _ in range(2):
        size = struct.unpack_from(">H", body, at)[0]
        sets.append(body[at + 2:at + 2 + size])
        at += 2 + size
    return {"index": index, "codec": CODECS[codec], "removed": bool(removed), "width": width, "height": height,
            "fps": mfps / 1000, "name": texts[0], "title": texts[1], "sps": sets[0], "pps": sets[1]}


class Viewer:
    def __init__(self, host, port):
        self.socket = socket.create_connection((host, port), 5)
        self.stream = Stream(self.socket.recv)
        self.feeds, self.waiting, self.number = {}, {}, 0
        kind, _, _, body = self.stream.next()
        if kind == BYE:
            sys.exit(f"refused: {REASONS[body[0]]} (it speaks versions {body[1]} to {body[2]})")
        self.oldest, self.newest, count, size = struct.unpack_from(">BBHB", body)
        self.name = body[5:5 + size].decode()
        while len(self.feeds) < count:
            kind, _, _, body = self.stream.next()
            if kind == FEED:
                feed = parse_feed(body)
                self.feeds[feed["name"]] = feed

    def sign_in(self, name, password):
        """The password does not cross the network, and an answer to one challenge is worth nothing for another."""
        body = self.next_of(CHALLENGE)
        challenge, realm = body[:32], body[33:33 + body[32]].decode()
        key = hashlib.sha256(f"{name}:{realm}:{password}".encode()).digest()
        proof = hmac.new(key, challenge + name.encode(), hashlib.sha256).digest()
        self.ask(ASK_SIGN_IN, proof + bytes([len(name)]) + name.encode())
        if self.next_of(ANSWER)[1] != 0:
            sys.exit("the name and the password do not belong together")
        self.ask(ASK_ALIVE)  # which is answered behind the feeds that may be seen now
        self.next_of(ANSWER)
        self.waiting.clear()

    def next_of(self, wanted):
        while True:
            kind, _, _, body = self.stream.next()
            if kind == FEED:
                feed = parse_feed(body)
                self.feeds[feed["name"]] = feed
            if kind == BYE:
                sys.exit(f"refused: {REASONS[body[0]]}")
            if kind == wanted:
                return body

    def ask(self, kind, body=b"", what=""):
        self.number += 1
        self.waiting[self.number] = what
        self.socket.sendall(message(kind, self.number, body))

    def watch(self, name):
        self.ask(ASK_FEED, struct.pack(">H", self.feeds[name]["index"]), f"feed {name}")

    def set(self, name, control, value):
        body = struct.pack(">HBBi", self.feeds[name]["index"], CONTROLS.index(control), 0, value)
        self.ask(ASK_CONTROL, body, f"{control} = {value}")

    def tell_answer(self, number, body):
        reason, value = body[1], struct.unpack_from(">i", body, 4)[0]
        what = self.waiting.pop(number, "?")
        print(f"{what}: {'done' if reason == 0 else 'refused, ' + REASONS[reason]}; in force: {value}", flush=True)


def save(folder, feed, number, data):
    name = f"{feed['name']}-{number:06}.jpg" if feed["codec"] == "jpeg" else f"{feed['name']}.h264"
    with open(os.path.join(folder, name), "ab" if feed["codec"] == "h264" else "wb") as out:
        out.write(data)


def main():
    parser = argparse.ArgumentParser(description="Watches a feed over the framed protocol.")
    parser.add_argument("address", metavar="HOST:PORT")
    parser.add_argument("feed", nargs="?")
    parser.add_argument("--frames", type=int, default=0, help="stop after so many")
    parser.add_argument("--save", metavar="FOLDER")
    parser.add_argument("--set", metavar="CONTROL=VALUE", action="append", default=[])
    parser.add_argument("--key", action="store_true", help="ask for a key frame")
    parser.add_argument("--user", metavar="NAME", help="sign in")
    parser.add_argument("--status", action="store_true", help="ask for the feed's figures")
    o = parser.parse_args()
    host, _, port = o.address.rpartition(":")
    v = Viewer(host.strip("[]"), int(port))
    if o.user:
        v.sign_in(o.user, getpass.getpass() if sys.stdin.isatty() else sys.stdin.readline().rstrip("\n"))
    if o.feed is None or o.feed not in v.feeds:
        for feed in v.feeds.values():
            print(f"{feed['name']:10} {feed['codec']} {feed['width']}x{feed['height']} at {feed['fps']:g}/s  {feed['title']}")
        sys.exit(0 if o.feed is None else f"{v.name} has no feed \"{o.feed}\"")
    feed = v.feeds[o.feed]
    if o.save:
        os.makedirs(o.save, exist_ok=True)
    v.watch(o.feed)
    for pair in o.set:
        control, _, value = pair.partition("=")
        if control not in CONTROLS:
            sys.exit(f"--set {pair}: there are {', '.join(CONTROLS)}")
        v.set(o.feed, control, int(value))
    if o.key:
        v.ask(ASK_KEY, what="key frame")
    if o.status:
        v.ask(ASK_STATUS, struct.pack(">H", feed["index"]), "status")
    frames, last, missing, second, size, age = 0, None, 0, time.time(), 0, 0
    while o.frames == 0 or frames < o.frames or v.waiting:
        kind, flags, number, body = v.stream.next()
        if kind == FRAME:
            index, codec, track, capture, unix = struct.unpack_from(">HBBQQ", body)
            if track != 0:
                continue  # no pictures
            missing += number - last - 1 if last is not None else 0
            last, frames, size = number, frames + 1, size + len(body) - 20
            age = time.time() * 1000 - unix / 1000 if unix else 0
            if o.save:
                save(o.save, feed, number, body[20:])
            if time.time() - second >= 1:
                print(f"frame {number}: {size * 8 / 1000 / (time.time() - second):.0f} kbit/s, {age:.0f} ms old, "
                      f"{missing} skipped", flush=True)
                second, size = time.time(), 0
        elif kind == ANSWER:
            v.tell_answer(number, body)
        elif kind == STATUS:
            status = json.loads(body)
            v.waiting.pop(number, None)
            print(f"status: {status['fps']:g} frames/s, {status['kbps']} kbit/s, {status['viewers']} viewers", flush=True)
        elif kind == BYE:
            sys.exit(f"the device says goodbye: {REASONS[body[0]]}")
    print(f"{frames} frames, {missing} skipped, {v.stream.skipped} bytes of damage skipped")


if __name__ == "__main__":
    try:
        main()
    except (EOFError, ConnectionError):
        sys.exit("the device closed the connection")
    except OSError as error:
        sys.exit(f"no connection: {error}")
    except KeyboardInterrupt:
        pass
