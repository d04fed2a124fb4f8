#!/usr/bin/env python3
"""What people lose hours to is told, with what to do: an empty place in a page of one's own, a script that is not run, controls that are
not there, a unit that hides files, a password with signs that addresses need. hints.py PATH-OF-BAMBINO"""
import json, os, shutil, subprocess, sys, urllib.parse

from running import Checks, Device, wait_for

command, check = os.path.abspath(sys.argv[1]), Checks()
CONFIG = """[device]
name = Valley railway
state = keep
pages = own
[http]
listen = 127.0.0.1:0
[rtsp]
listen = 127.0.0.1:0
[camera station]
view = station
[feed station]
codec = h264
size = 640x360
rate = 10
[camera yard]
view = yard
[feed yard]
size = 320x240
rate = 10
"""
device = Device(command, CONFIG)
os.mkdir(device.path("keep"))
os.mkdir(device.path("own"))
with open(device.path("own/index.html"), "w") as f:
    f.write('<!doctype html>\n<img src="yard.mjpeg">\n<script src="club.js"></script>\n<script>\nalert(1)\n</script>\n')
device.start()
BROWSER = {"User-Agent": "Mozilla/5.0 (X11)"}
try:
    told = device.told()
    check("a script in one's own page", "own/index.html:4: browsers run no script that stands in the page itself" in told, told)
    check("how to get controls", "add a user with --may adjust, or set anybody = adjust" in told, told)
    check("how to show a feed elsewhere", "origins = http://HOST in [device]" in told, told)
    check("where a snapshot of H.264 is", "/station.jpg   snapshot" in told, told)
    answers = []  # its camera may still be starting
    wait_for(lambda: answers.append(device.ask("/station.jpg")) or answers[-1][0] == 200)
    status, body = answers[-1]
    check("and it is one", status == 200 and body[:3] == b"\xff\xd8\xff", status)
    feeds = {f["name"]: f["suffixes"] for f in json.loads(device.ask("/status.json")[1])["feeds"]}
    check("the status has it", ".jpg" in feeds["station"] and ".ts" in feeds["station"], feeds)
    # A page of somebody else's shows a feed: a word in the log; our own page and programs are none.
    for headers, is_told in (({**BROWSER, "Referer": device.http + "/"}, False), ({"Referer": "http://club.example/cams.html"}, False),
                             ({**BROWSER, "Referer": "http://club.example/cams.html"}, True)):
        device.ask("/yard.jpg", headers=headers)
        wait_for(lambda: "club.example" in device.told(), 2 if is_told else 0)
        check(f"{headers} is told: {is_told}", ("a page of http://club.example shows a feed" in device.told()) == is_told, device.told()[-400:])
    check("and how to allow it", "set origins = http://club.example or embed = yes" in device.told())
finally:
    device.stop()

# Once they are named, nothing is told.
device = Device(command, CONFIG.replace("pages = own", "origins = http://club.example"), device.folder)
device.start()
try:
    device.ask("/yard.jpg", headers={**BROWSER, "Referer": "http://club.example/cams.html"})
    device.ask("/status.json")
    check("an origin that may is not told", "club.example shows" not in device.told() and "THAT" not in device.told())
finally:
    device.stop()

# A password with signs that addresses need: as it is typed, where a file or a prompt takes it; encoded in addresses; never shown.
word = "a:b@c/d?e#f%20 g\"h\\i&é"
r = device.users("add", "anna", "--may", "administer", text=word + "\n")
check("any password is taken", r.returncode == 0, r)
device = Device(command, CONFIG.replace("pages = own", ""), device.folder)
device.start()
try:
    check("the page takes it", device.sign_in("anna", word) is not None)
    check("HTTP takes it", device.curl("/yard.jpg", "--digest", "-u", f"anna:{word}") == 200)
    rtsp = [line.split()[0] for line in device.told().splitlines() if "rtsp://" in line and "/yard" in line][0]
    encoded = rtsp.replace("rtsp://", f"rtsp://anna:{urllib.parse.quote(word, safe='')}@")
    r = subprocess.run(["timeout", "30", command, "check", encoded, "--for", "1"], capture_output=True, text=True)
    check("an address takes it, encoded", r.returncode == 0, r)
    shown = r.stdout + r.stderr
    r = subprocess.run(["timeout", "30", command, "check", rtsp.replace("rtsp://", f"rtsp://anna:{word}@"), "--for", "1"], capture_output=True, text=True)
    check("and as it is typed", r.returncode == 0, r)
    shown += r.stdout + r.stderr
    wrong = rtsp.replace("rtsp://", "rtsp://anna:not%40this@")
    r = subprocess.run(["timeout", "30", command, "check", wrong, "--for", "1"], capture_output=True, text=True)
    shown += r.stdout + r.stderr
    check("no password is shown", all(w not in shown for w in (word, urllib.parse.quote(word, safe=""), "not%40this", "not@this")), shown)
finally:
    check("the device ends well", device.stop() == 0)

# What a unit hides or lets nobody write to.
config = device.path("device.ini")
with open(config, "w") as f:
    f.write(CONFIG.replace("pages = own", "pages = /var/tmp/own").replace("state = keep", "state = /srv/keep"))
r = subprocess.run([command, "service", "write", config], capture_output=True, text=True)
check("the unit is written", r.returncode == 0 and "[Service]" in r.stdout, r)
check("a state folder that it may not write to", "state is /srv/keep, and the service may write below /var/lib/bambino alone" in r.stderr, r.stderr)
check("a folder that it does not see", "pages is /var/tmp/own, and a service has a /tmp of its own" in r.stderr, r.stderr)
check("nor the configuration", ("the configuration is /tmp/" in r.stderr) == config.startswith("/tmp/"), r.stderr)
with open("/dev/null") as nothing:
    shutil.rmtree(device.folder)
check.end()
