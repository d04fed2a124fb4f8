#!/usr/bin/env python3
"""What a camera cannot do is refused before anything stops, and undone where the camera finds out later; one feed's change leaves the
viewers of others alone. modes.py PATH-OF-BAMBINO"""
import json, os, socket, subprocess, sys, time
from running import Checks, Device, wait_for

command, check = os.path.abspath(sys.argv[1]), Checks()
CONFIG = """[device]
state = keep
{more}
[http]
listen = 127.0.0.1:0
[camera yard]
view = yard
[camera loco]
view = cab
[feed yard]
size = 320x240
rate = 15
[feed loco]
size = 320x240
rate = 15
"""
IMPOSSIBLE = (("size", "8192x8192", "1920x1080"), ("size", "641x481", "640x480"), ("size", "17x17", "128x96"), ("size", "5000x5000", "1920x1080"),
              ("rate", 200, "60/s"), ("size", "320x241", "320x240"))


def patch(device, change, headers=()):
    status, body = device.ask("/settings", json.dumps(change).encode(), "PATCH", {"Content-Type": "application/json", **dict(headers)})
    return status, json.loads(body or b"{}")


def status_of(device, name):
    return next(f for f in json.loads(device.ask("/status.json")[1])["feeds"] if f["name"] == name)


class Viewer:
    def __init__(self, device, feed):
        self.s = socket.create_connection(("127.0.0.1", int(device.http.rsplit(":", 1)[1])), 20)
        self.s.sendall(f"GET /{feed}.mjpeg HTTP/1.1\r\nHost: 127.0.0.1\r\n\r\n".encode())

    def goes_on(self):
        """More than was on its way already."""
        got = 0
        while got < 400000:
            piece = self.s.recv(65536)
            if not piece:
                return False
            got += len(piece)
        return True


# What cannot be is refused with the nearest that can, by a change and by --check; nothing stops, nothing is kept.
device = Device(command, CONFIG.format(more=""))
os.mkdir(device.path("keep"))
device.start()
viewer = Viewer(device, "loco")
wait_for(lambda: status_of(device, "yard")["camera_state"] == "running")
for key, value, nearest in IMPOSSIBLE:
    status, body = patch(device, {"feed": {"yard": {key: value}}})
    check(f"{key} = {value}: 422 with the nearest", status == 422 and nearest in body.get("detail", ""), body)
    check(f"{key} = {value}: the camera goes on", status_of(device, "yard")["camera_state"] == "running")
    other = Device(command, CONFIG.format(more="").replace(f"[feed yard]\nsize = 320x240\nrate = 15", f"[feed yard]\nsize = 320x240\nrate = 15\n{key} = {value}"
                                                           .replace("size = 320x240\n" if key == "size" else "rate = 15\n", "", 1)))
    r = subprocess.run([command, "run", "--check", other.config], capture_output=True, text=True)
    check(f"{key} = {value}: --check refuses it", r.returncode == 1 and nearest in r.stderr, r)
check("nothing is kept of it", not os.path.exists(device.path("keep/settings")) or "8192" not in open(device.path("keep/settings")).read())
check("who watches another feed goes on", viewer.goes_on())
check("what can be is taken", patch(device, {"feed": {"yard": {"size": "400x300"}}})[0] == 200)
check("… and runs", wait_for(lambda: status_of(device, "yard")["width"] == 400 and status_of(device, "yard")["camera_state"] == "running"))
device.stop()

# More memory than is reserved: refused as long as somebody watches another feed; taken when nobody does.
device = Device(command, CONFIG.format(more="reserve = 64K"))
os.mkdir(device.path("keep"))
device.start()
viewer = Viewer(device, "loco")
check("the other feed is watched", viewer.goes_on())
status, body = patch(device, {"feed": {"yard": {"size": "1920x1080"}}})
check("too large for the reserve: refused, and the way out is told", status == 422 and "reserve" in body.get("detail", ""), body)
check("who watches another feed goes on", viewer.goes_on() and device.told().count("Ctrl-C") == 1)
viewer.s.close()
wait_for(lambda: status_of(device, "loco")["viewers"] == 0)
check("nobody watches: taken", patch(device, {"feed": {"yard": {"size": "1920x1080"}}})[0] in (200, 202))
check("… by opening anew", wait_for(lambda: device.told().count("Ctrl-C") == 2), device.told()[-600:])
device.stop()

# A camera that takes the mode and delivers nothing has not taken it.
BOARD = """[device]
board = viaduct
reserve = 16M
state = keep
[http]
listen = 127.0.0.1:0
[camera cab]
view = cab
[feed cab]
size = 640x480
rate = 10
"""
for attempt in range(5):  # a machine that is held up may notice the fault before the change comes
    device = Device(command, BOARD, options=("--fault", "hanging-camera@2"))
    os.mkdir(device.path("keep"))
    device.start()
    wait_for(lambda: "it hangs" in device.told())
    seen = status_of(device, "cab")["camera_state"]
    status, body = patch(device, {"feed": {"cab": {"size": "1280x720"}}})
    if seen in ("running", "resting") and "camera failed:" not in device.told().split("is changed to")[0]:
        break
    print("once more:", seen)
    device.stop()
check("taken", status in (200, 422), body)
check("no frame comes: undone", wait_for(lambda: "all is as before" in device.told(), 30), device.told()[-800:])
check("the size is the former one", wait_for(lambda: json.loads(device.ask("/settings")[1])["feed"]["cab"]["size"] == "640x480"))
check("nothing of it is kept", "1280x720" not in open(device.path("keep/settings")).read())
device.stop()
check.end()
