#!/usr/bin/env python3
"""Announcing by DNS-SD, between two hosts in network namespaces, each with a message bus and an Avahi daemon of its own: what the
other host finds leads to pictures, names that are taken, a daemon that comes late, hangs and goes. announce.py BAMBINO"""
import json, os, re, shutil, signal, subprocess, sys, tempfile, time, urllib.request

if "--inside" not in sys.argv:
    needed = ("dbus-daemon", "avahi-daemon", "avahi-browse", "ip", "nsenter")
    missing = [n for n in needed if not shutil.which(n, path=os.environ["PATH"] + ":/usr/sbin:/sbin")]
    if missing or subprocess.run(["unshare", "--net", "--mount", "true"], stderr=subprocess.DEVNULL).returncode != 0:
        print(f"missing: {', '.join(missing)}: skipped" if missing else "network namespaces are not permitted here: skipped")
        sys.exit(77)
    os.execvp("unshare", ["unshare", "--net", "--mount", sys.executable, os.path.abspath(__file__), *sys.argv[1:], "--inside"])

os.environ["PATH"] += ":/usr/sbin:/sbin"
command = os.path.abspath(sys.argv[1])
if "announcements: yes" not in subprocess.run([command, "--version"], capture_output=True, text=True).stdout:
    print("this build announces nothing: skipped")
    sys.exit(77)
work = tempfile.mkdtemp(prefix="bambino-announce-")
checks, bad, started = 0, [], []
CONFIG = """[device]
name = Valley railway
anybody = watch
state = {state}
[network]
announce = 1
[http]
listen = {at}:8080
[rtsp]
listen = {at}:8554
[camera yard]
source = drawn
view = yard
[feed yard]
size = 320x240
[feed halt]
camera = yard
size = 160x120
"""


def check(what, good, detail=""):
    global checks
    checks += 1
    if not good:
        bad.append(what)
        print(f"failed: {what}: {detail}", flush=True)
    return good


def wait_for(what, seconds=20):
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        found = what()
        if found:
            return found
        time.sleep(0.2)
    return None


class Host:
    """A network namespace with an address, and a /run of its own. pid None: that of this process."""

    def __init__(self, name, address, pid=None):
        self.name, self.enter = name, ["nsenter", "-t", str(pid), "-n", "-m"] if pid else []
        self.run("mount", "--make-rprivate", "/")
        self.run("mount", "-t", "tmpfs", "tmpfs", "/run")
        self.run("mkdir", "/run/dbus")
        self.run("ip", "link", "set", "lo", "up")
        self.run("ip", "address", "add", address, "dev", "rail")
        self.run("ip", "link", "set", "rail", "up")
        with open(f"{work}/{name}.conf", "w") as f:
            f.write(f"[server]\nhost-name={name}\nuse-ipv4=yes\nuse-ipv6=no\n[wide-area]\nenable-wide-area=no\n[publish]\npublish-aaaa-on-ipv4=no\n")

    def run(self, *args):
        return subprocess.run([*self.enter, *args], capture_output=True, text=True, timeout=30)

    def start(self, *args, out=subprocess.DEVNULL):
        p = subprocess.Popen([*self.enter, *args], stdin=subprocess.DEVNULL, stdout=out, stderr=subprocess.STDOUT)
        started.append(p)
        return p

    def bus(self):
        self.start("dbus-daemon", "--system", "--nofork", "--nopidfile")
        return wait_for(lambda: self.run("test", "-S", "/run/dbus/system_bus_socket").returncode == 0)

    def avahi(self):
        return self.start("avahi-daemon", "--no-drop-root", "--no-chroot", "--no-rlimits", "-f", f"{work}/{self.name}.conf")

    def found(self, kind):
        """Names, with host, address, port and path."""
        out = {}
        for line in self.run("timeout", "4", "avahi-browse", "--resolve", "--terminate", "--parsable", kind).stdout.splitlines():
            f = line.split(";")
            if f[0] == "=" and len(f) >= 10:
                name = re.sub(r"\\(\d{3})", lambda m: chr(int(m[1])), f[3])
                out[name] = (f[6], f[7], int(f[8]), f[9])
        return out


class Device:
    def __init__(self, host, name, at=""):
        self.path = f"{work}/{name}.ini"
        os.makedirs(f"{work}/{name}")
        with open(self.path, "w") as f:
            f.write(CONFIG.format(state=f"{work}/{name}", at=at))
        said = subprocess.run([command, "users", self.path, "add", "boss", "--program", "--may", "administer"], capture_output=True, text=True, check=True).stdout
        self.token = next(word for word in said.split() if len(word) == 32)
        self.log = open(f"{work}/{name}.log", "w+")
        self.process = host.start(command, "run", self.path, out=self.log)

    def said(self, text):
        with open(self.log.name) as f:
            return f.read().count(text)


def picture():
    began = time.monotonic()
    try:
        data = urllib.request.urlopen("http://10.9.0.1:8080/yard.jpg", timeout=5).read()
    except OSError as e:
        return None
    return time.monotonic() - began if data.startswith(b"\xff\xd8") else None


def change(device, settings):
    request = urllib.request.Request("http://10.9.0.1:8080/settings", json.dumps(settings).encode(),
                                     {"Content-Type": "application/json", "Authorization": f"Bearer {device.token}"}, method="PATCH")
    return urllib.request.urlopen(request, timeout=10).read()


def main():
    other = subprocess.Popen(["unshare", "--net", "--mount", "sleep", "200"])
    started.append(other)
    wait_for(lambda: os.readlink(f"/proc/{other.pid}/ns/net") != os.readlink("/proc/self/ns/net"))
    subprocess.run(["ip", "link", "add", "rail", "type", "veth", "peer", "name", "rail", "netns", str(other.pid)], check=True)
    here, there = Host("siding", "10.9.0.1/24"), Host("junction", "10.9.0.2/24", other.pid)
    there.bus()
    there.avahi()

    device = Device(here, "first")
    check("without a message bus it says so", wait_for(lambda: device.said("nothing is announced: the Avahi daemon cannot be asked")), device.said(""))
    check("… and serves", wait_for(picture))
    here.bus()
    check("a bus without the daemon: it waits for that one", wait_for(lambda: device.said("announcing waits for the Avahi daemon"), 25))
    avahi = here.avahi()
    check("the daemon comes: it is announced", wait_for(lambda: device.said('announced in the network as "Valley railway", by the host name siding.local')))

    streams = wait_for(lambda: len(there.found("_rtsp._tcp")) == 2 and there.found("_rtsp._tcp")) or {}
    check("another host finds the feeds", streams.get("Valley railway: yard") == ("siding.local", "10.9.0.1", 8554, '"path=/yard"') and
          streams.get("Valley railway: halt") == ("siding.local", "10.9.0.1", 8554, '"path=/halt"'), streams)
    check("… and the page", there.found("_http._tcp") == {"Valley railway": ("siding.local", "10.9.0.1", 8080, '"path=/"')}, there.found("_http._tcp"))
    for name, size in (("yard", "320,240"), ("halt", "160,120")):
        _, address, port, path = streams.get(f"Valley railway: {name}", ("", "10.9.0.1", 0, '"path=/"'))
        probe = there.run("ffprobe", "-v", "error", "-rtsp_transport", "tcp", "-show_entries", "stream=width,height", "-of", "csv=p=0",
                          "rtsp://%s:%d%s" % (address, port, path.strip('"')[5:]))
        check(f"what it found leads to {name}", probe.stdout.strip() == size, probe.stdout + probe.stderr)

    second = Device(there, "second")
    check("a second one of this name takes another, and says so", wait_for(lambda: second.said('announced in the network as "Valley railway #2"')), second.said("announced"))
    check("both are found", wait_for(lambda: set(here.found("_http._tcp")) == {"Valley railway", "Valley railway #2"}), here.found("_http._tcp"))
    second.process.send_signal(signal.SIGTERM)
    second.process.wait(10)
    check("the one that ended is not found any more", wait_for(lambda: set(here.found("_http._tcp")) == {"Valley railway"}), here.found("_http._tcp"))

    avahi.send_signal(signal.SIGSTOP)
    change(device, {"device": {"name": "Hill railway"}})
    slowest = 0
    for _ in range(20):
        slowest = max(slowest, picture() or 99)
        time.sleep(0.1)
    check("a daemon that hangs holds nothing up", slowest < 2, f"{slowest:.2f} s to a picture")
    avahi.send_signal(signal.SIGCONT)
    check("it goes on, and the new name is found", wait_for(lambda: set(there.found("_http._tcp")) == {"Hill railway"}), there.found("_http._tcp"))
    avahi.send_signal(signal.SIGKILL)
    avahi.wait()
    here.run("rm", "-rf", "/run/avahi-daemon")
    avahi = here.avahi()
    check("the daemon was killed and came again: it is announced anew", wait_for(lambda: device.said('announced in the network as "Hill railway"') >= 2), device.said("announced"))
    check("… and the log says that it went", device.said("announcing waits for the Avahi daemon") >= 2, device.said("announcing waits"))
    change(device, {"network": {"announce": 0}})
    check("switched off, it is gone", wait_for(lambda: not there.found("_http._tcp") and not there.found("_rtsp._tcp")), there.found("_http._tcp"))
    check("… and the log says so", device.said("nothing is announced any more") == 1)
    change(device, {"network": {"announce": 1}})
    check("switched on, it is there", wait_for(lambda: len(there.found("_rtsp._tcp")) == 2), there.found("_rtsp._tcp"))
    device.process.send_signal(signal.SIGTERM)
    check("it ends in good order", device.process.wait(10) == 0)
    check("and is gone", wait_for(lambda: not there.found("_rtsp._tcp")), there.found("_rtsp._tcp"))

    own = Device(here, "own", "127.0.0.1")
    check("what only this machine reaches is not announced, with a word", wait_for(lambda: own.said("no other machine could reach what is served")))
    time.sleep(1)
    check("… and not found", not there.found("_http._tcp"))
    own.process.send_signal(signal.SIGTERM)
    own.process.wait(10)


try:
    main()
finally:
    for p in reversed(started):
        if p.poll() is None:
            p.kill()
            p.wait()
    if bad:
        for name in ("first", "second", "own"):
            if os.path.exists(f"{work}/{name}.log"):
                print(f"--- {name}\n" + open(f"{work}/{name}.log").read())
    shutil.rmtree(work)
print(f"{checks - len(bad)} passed, {len(bad)} failed")
sys.exit(bool(bad))
