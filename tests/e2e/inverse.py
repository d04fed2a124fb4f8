#!/usr/bin/env python3
"""Reading and writing settings are inverses: the document that was read changes nothing when it is sent back, as a whole and key by key,
and nobody who watches notices. inverse.py PATH-OF-BAMBINO"""
import json, os, shutil, socket, sys

from running import Checks, Device

check = Checks()
device = Device(os.path.abspath(sys.argv[1]), """[device]
name = Valley railway
names = cams.railway.example
origins = http://192.0.2.7
state = keep
viewers = 8
spare = 4
[network]
uplink-kbps = 50000
[http]
listen = 127.0.0.1:0
[rtsp]
listen = 127.0.0.1:0
[tcp all]
listen = 127.0.0.1:0
format = framed
[tcp one]
listen = 127.0.0.1:0
feed = yard
hosts = 192.0.2.9
[camera yard]
view = yard
[feed yard]
title = Sidings
size = 640x480
rate = 15
kbps = 4000
quality-least = 20
quality-most = 80
frame-max = 200000
reel = 800000
step = small
[feed small]
camera = yard
size = 320x240
rate = 5
brightness = 10
[camera station]
view = station
[feed station]
codec = h264
size = 640x360
rate = 15
kbps = 900
preview = small
[feed group]
camera = station
codec = h264
size = 320x180
rate = 5
multicast = 239.255.42.1:5004
[push archive]
feed = group
to = udp://127.0.0.1:5999
format = ts
""")
os.mkdir(device.path("keep"))
added = device.users("add", "robot", "--program", "--may", "administer")
check("a token is given", added.returncode == 0, added.stderr)
token = [word for word in added.stdout.split() if len(word) > 25][0]
WHO = {"Authorization": f"Bearer {token}"}
PATCH = {**WHO, "Content-Type": "application/merge-patch+json"}


def settings():
    return json.loads(device.ask("/settings", headers=WHO)[1])


def patch(document):
    status, body = device.ask("/settings", json.dumps(document).encode(), "PATCH", PATCH)
    return status, json.loads(body)


device.start()
try:
    before = settings()
    host, port = device.http.split("//")[1].split(":")
    viewer = socket.create_connection((host, int(port)))
    viewer.sendall(f"GET /yard.mjpeg HTTP/1.1\r\nHost: {host}\r\nAuthorization: Bearer {token}\r\n\r\n".encode())
    seen = viewer.recv(1000)
    check("somebody watches", b"200" in seen, seen[:100])
    status, answer = patch(before)
    check("the whole document changes nothing", status == 200 and answer["settings"] == 0 and answer["trial"] is None, (status, answer.get("detail")))
    keys = 0
    for section, items in before.items():
        lists = items if all(isinstance(v, dict) for v in items.values()) and items else {"": items}
        for name, values in lists.items():
            for key, value in values.items():
                one = {section: {name: {key: value}}} if name else {section: {key: value}}
                status, answer = patch(one)
                check(f"{section} {name} {key} = {value} changes nothing", status == 200 and answer["settings"] == 0, (status, answer))
                keys += 1
    check("all keys were looked at", keys > 150, keys)
    # Every key that the details tell has a value there, in one item at least, but for those that mean nothing unless they are set.
    details = json.loads(device.ask("/settings/details", headers=WHO)[1])["settings"]
    told = {(d["section"], d["key"]) for d in details}
    have = {(s, k) for s, items in before.items() for k in items if not isinstance(items[k], dict)}
    have |= {(s, k) for s, items in before.items() for v in items.values() if isinstance(v, dict) for k in v}
    unset = {"raw-size", "video-input", "reserve", "plain", "secure", "ssid", "fingerprint", "interface"}
    check("every other key has a value", {key for _, key in told - have} <= unset, sorted(told - have))
    check("what was read is as it was", settings() == before)
    check("nothing is kept", json.loads(device.ask("/settings/changes", headers=WHO)[1])["changes"] == [])
    check("whoever watched, watches", len(viewer.recv(100000)) > 0)
    # It is no lock: a real change is one, and sending that back is none again.
    status, answer = patch({"feed": {"small": {"brightness": 20}}})
    check("a change is a change", status == 200 and answer["settings"] == 1, (status, answer))
    after = settings()
    status, answer = patch(after)
    check("and its document changes nothing", status == 200 and answer["settings"] == 0 and settings() == after, (status, answer))
    status, answer = patch(before)
    check("the first document takes it back", status == 200 and answer["settings"] == 1 and settings() == before, (status, answer))
finally:
    check("the device ends well", device.stop() == 0)
    shutil.rmtree(device.folder)
check.end()
