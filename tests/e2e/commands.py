#!/usr/bin/env python3
"""Every command of the README and of docs/ is run as it stands there, on a network of its own where the documented addresses are this
machine's: none may be called wrong, and all that need no equipment have to succeed. commands.py PATH-OF-BAMBINO"""
import glob, os, re, shutil, socket, subprocess, sys, tempfile

from running import Checks, go_apart, wait_for

go_apart()
root = os.path.abspath(os.path.join(os.path.dirname(os.path.abspath(__file__)), "..", ".."))
command, check = os.path.abspath(sys.argv[1]), Checks()
for words in ("link set lo up", "addr add 192.0.2.20/32 dev lo", "addr add 192.0.2.7/32 dev lo", "route add 239.0.0.0/8 dev lo"):
    subprocess.run(["ip", *words.split()], check=True)
SERVES = """[device]
name = Valley railway
state = STATE
anybody = watch
[http]
listen = HTTP
[rtsp]
listen = RTSP
[camera station]
view = station
[feed station]
codec = h264
size = 640x360
rate = 15
[camera yard]
view = yard
[feed yard]
size = 320x240
rate = 15
[camera loco]
view = cab
[feed loco]
size = 320x240
rate = 10
[camera front]
view = yard
[feed front]
size = 320x240
rate = 10
"""


def prepare():
    """A folder with what the documents take for granted; each page begins in a new one."""
    folder = tempfile.mkdtemp(prefix="bambino-commands-")
    at = lambda *names: os.path.join(folder, *names)
    for name in ("bin", "etc", "etc/bambino", "root/etc/systemd/system", "pictures"):
        os.makedirs(at(name), exist_ok=True)
    os.symlink(os.path.join(root, "demo"), at("demo"))
    os.symlink(command, at("bin/bambino"))
    for name, text in (("bin/sudo", '#!/bin/sh\nexec "$@"\n'), ("lamp.sh", "#!/bin/sh\n")):
        with open(at(name), "w") as f:
            f.write(text)
        os.chmod(at(name), 0o755)
    for name, http, rtsp in (("my.ini", "127.0.0.1:0", "127.0.0.1:0"), ("etc/bambino/bambino.ini", "127.0.0.1:0", "127.0.0.1:0"),
                             ("etc/bambino.ini", "127.0.0.1:0", "127.0.0.1:0"), ("served.ini", ":8080", ":8554")):
        keep = at("keep-" + name.replace("/", "-"))
        os.makedirs(keep)
        with open(at(name), "w") as f:
            f.write(SERVES.replace("STATE", keep).replace("HTTP", http).replace("RTSP", rtsp))
    return folder


# What tests of their own run, or is a line of another shell's.
ELSEWHERE = r"^(make|scripts/|python3|npm|apt|git|cd|gst-launch|ffplay|mpv|ssh|scp|docker)\b"
# What needs equipment or somebody at the other end: it must be understood, and may fail.
MAY_FAIL = r"--light|--fingerprint|tcp://192|udp://:5000|-X PATCH|/events|--board lineside$|service show|-95=|lapse .*-o"
# What goes on for ever goes on for a moment.
MOMENT = r"bambino (run|demo|lapse|send|check)\b(?!.*--(check|for)\b)"
NO_CAMERA = "no camera is attached to this machine"


def commands(text):
    inside = None
    for line in re.sub(r"\\\n\s*", "", text).splitlines():
        if line.startswith("```"):
            inside = None if inside is not None else line[3:].strip()
            continue
        line = re.sub(r"\s+#.*$", "", line).strip()
        if inside in ("", "sh", "console") and re.match(r"(sudo )?(\S*/)?(bambino|curl|make)\b ", line):
            yield line.replace("build/release/bambino", "bambino")


def as_run(line, work):
    """The documented line, with an end to what has none, in the test's folder."""
    line = line.replace("HOST", "192.0.2.20").replace("/etc/", work + "/etc/").replace("6C:FA:91:…", ":".join(["6C"] * 32))
    line = re.sub(r"--for (8h|60)\b", "--for 1", line)
    line = " && ".join(part + " --for 1" if re.search(MOMENT, part) else part for part in line.split(" && "))
    line = re.sub(r"curl (?!-m)", "curl -m 2 -s -S -o /dev/null ", line) if "curl -o" not in line else line
    if "bambino run" in line and "--check" not in line:
        line += " --http 127.0.0.1:0 --rtsp 127.0.0.1:0"
    return line + (f" --root {work}/root" if re.search(r"service (install|remove|show)", line) else "")


first = prepare()
env = {**os.environ, "LSAN_OPTIONS": f"suppressions={first}/leaks:print_suppressions=0", "PATH": first + "/bin:" + os.environ["PATH"], "TOKEN": "none", "HOME": first}
with open(first + "/leaks", "w") as f:
    f.write("leak:libfontconfig\n")  # what draws texts keeps some for good
receivers = [socket.socket(socket.AF_INET, socket.SOCK_DGRAM) for _ in range(2)]
for receiver, host in zip(receivers, ("192.0.2.20", "127.0.0.1")):
    receiver.bind((host, 5000))
log = open(first + "/log", "w+")
served = subprocess.Popen([command, "run", first + "/served.ini"], stdout=log, stderr=subprocess.STDOUT)
count = 0


def told():
    with open(log.name, errors="replace") as f:
        return f.read()


try:
    check("a device is served", wait_for(lambda: "Ctrl-C" in told()), told())
    for page in [os.path.join(root, "README.md"), *sorted(glob.glob(os.path.join(root, "docs", "*.md")))]:
        work = prepare()
        with open(page, encoding="utf-8") as f:
            lines = list(commands(f.read()))
        for line in lines:
            if re.search(ELSEWHERE, line):
                continue
            count += 1
            for name in glob.glob(work + "/*.jpg"): # they are not written over
                os.remove(name)
            r = subprocess.run(["timeout", "60", "sh", "-c", as_run(line, work)], cwd=work, env=env, input="the red signal\n" * 2, capture_output=True,
                               text=True, errors="replace")
            may_fail = re.search(MAY_FAIL, line) and r.returncode not in (2, 127)
            check(f"{os.path.basename(page)}: {line}", r.returncode == 0 or may_fail or NO_CAMERA in r.stderr,
                  f"\n  as {as_run(line, work)}\n  gave {r.returncode}: {r.stderr[-500:]}")
        shutil.rmtree(work)
    check("there are many", count > 50, count)
finally:
    served.terminate()
    served.wait(20)
    shutil.rmtree(first)
check.end()
