#!/usr/bin/env python3
"""A whole emulated single-board computer: from its power switch to a picture in a client on this machine, and whatever may
happen to it. test.py FOLDER-OF-IMAGE PACKAGES [--cuts N] [--only NAMES] [--usb PROGRAM]
PROGRAM: the USB camera of tests/kernel, for the board's processor. Two boards share the rounds: they mostly wait."""
import argparse, glob, json, os, random, re, shutil, signal, socket, subprocess, sys, tempfile, threading, time, urllib.request

parser = argparse.ArgumentParser()
parser.add_argument("image")
parser.add_argument("packages")
parser.add_argument("--cuts", type=int, default=2)
parser.add_argument("--only", default="")
parser.add_argument("--seed", type=int, default=1)
parser.add_argument("--usb", default="")
options = parser.parse_args()
image, packages = os.path.realpath(options.image), os.path.realpath(options.packages)
work = tempfile.mkdtemp(prefix="bambino-board-")
random.seed(options.seed)
passed, failed = 0, 0


def check(what, good, detail=""):
    global passed, failed
    passed, failed = passed + bool(good), failed + (not good)
    print(("      " if good else "FAILED ") + what + (f": {detail}" if detail != "" else ""), flush=True)
    return good


def free_port():
    with socket.socket() as s:
        s.bind(("127.0.0.1", 0))
        return s.getsockname()[1]


class Board:
    """The disk with the state lasts; each start is one life of the machine."""

    def __init__(self, name):
        self.state = f"{work}/{name}.img"
        with open(self.state, "wb") as f:
            f.truncate(64 << 20)
        self.third = f"{work}/{name}.third"
        with open(self.third, "wb") as f:
            f.truncate(4 << 20)
        self.process = None

    def on(self, more="", rtc="base=utc", network=True):
        self.http, self.rtsp = free_port(), free_port()
        self.words, self.control = f"{work}/words", f"{work}/control"
        for path in (self.words, self.control):
            if os.path.exists(path):
                os.unlink(path)
        self.console = open(f"{work}/console", "wb")
        self.began = time.monotonic()
        self.process = subprocess.Popen(
            ["qemu-system-aarch64", "-machine", "virt", "-cpu", "cortex-a57", "-smp", "2", "-m", "512", "-display", "none", "-no-reboot", "-serial", "stdio",
             "-kernel", f"{image}/kernel", "-initrd", f"{image}/first.gz", "-append", f"console=ttyAMA0 panic=1 kpti=off nokaslr bambino.shell {more}", "-rtc", rtc,
             "-drive", f"file={image}/root.img,if=virtio,format=raw,readonly=on", "-drive", f"file={self.state},if=virtio,format=raw",
             "-drive", f"file={self.third},if=virtio,format=raw",
             "-netdev", f"user,id=n,hostfwd=tcp:127.0.0.1:{self.http}-:8080,hostfwd=tcp:127.0.0.1:{self.rtsp}-:8554", "-device", "virtio-net-pci,netdev=n,id=card",
             "-device", "virtio-serial", "-chardev", f"socket,id=s,path={self.words},server=on,wait=off", "-device", "virtconsole,chardev=s",
             "-monitor", f"unix:{self.control},server=on,wait=off"],
            stdin=subprocess.DEVNULL, stdout=self.console, stderr=self.console)
        if not network:
            self.monitor("set_link card off")
        self.shell = None

    def off(self):
        """The power is cut: nothing in the machine hears of it."""
        if self.shell:
            self.shell.close()
        self.process.kill()
        self.process.wait()
        self.console.close()

    def monitor(self, command):
        for _ in range(100):
            try:
                s = socket.socket(socket.AF_UNIX)
                s.connect(self.control)
                break
            except OSError:
                time.sleep(0.05)
        s.recv(4096)
        s.sendall(command.encode() + b"\n")
        time.sleep(0.2)
        s.close()

    def hear(self, until, seconds):
        said, end = b"", time.monotonic() + seconds
        while time.monotonic() < end:
            try:
                said += self.shell.recv(65536)
            except socket.timeout:
                continue
            text = said.decode(errors="replace").replace("\r", "")
            m = re.search(until, text)
            if m:
                return m, text[: m.start()]
        return None, said.decode(errors="replace")

    def sh(self, command, seconds=60):
        """What a command inside says; None: the shell does not answer."""
        if self.shell is None:
            self.shell = socket.socket(socket.AF_UNIX)
            self.shell.connect(self.words)
            self.shell.settimeout(0.5)
            self.marks = 0
            for _ in range(40):  # it may not listen yet
                self.shell.sendall(b"stty -echo; PS1=; echo here':'1\n")
                if self.hear(r"here:1\n", 2)[0]:
                    break
            self.hear("never", 1)
        self.marks += 1
        self.shell.sendall(f"{command} 2>&1; echo; echo mark{self.marks}:$?\n".encode())
        m, text = self.hear(rf"mark{self.marks}:\d+\n", seconds)
        return text.strip() if m else None

    def get(self, path, seconds=5):
        try:
            with urllib.request.urlopen(f"http://127.0.0.1:{self.http}{path}", timeout=seconds) as r:
                return r.read()
        except (OSError, ValueError):
            return b""
        except Exception:  # half an answer of a machine that ends
            return b""

    def status(self):
        try:
            return json.loads(self.get("/status.json"))
        except ValueError:
            return {}

    def picture(self, seconds=90, feed="camera"):
        """Seconds until a new picture came; None: none did."""
        began = time.monotonic()
        while time.monotonic() - began < seconds and self.process.poll() is None:
            data = self.get(f"/{feed}.jpg")
            if data.startswith(b"\xff\xd8") and data.endswith(b"\xff\xd9"):
                return time.monotonic() - began
            time.sleep(0.2)
        return None

    def watch(self, feed, seconds, stop=None):
        """When pictures came to a viewer that connects again whenever he is left, and how often he had to."""
        times, connected, end = [], 0, time.monotonic() + seconds
        while time.monotonic() < end and not (stop and stop.is_set()):
            try:
                with urllib.request.urlopen(f"http://127.0.0.1:{self.http}/{feed}.mjpeg", timeout=5) as r:
                    connected += 1
                    while time.monotonic() < end and not (stop and stop.is_set()):
                        data = r.read1(65536)
                        if not data:
                            break
                        if b"Content-Type: image/jpeg" in data:
                            times.append(time.monotonic())
            except Exception:
                pass
            time.sleep(0.1)
        return times, connected

    def goes_on(self, feed="camera", seconds=40):
        """Seconds until a viewer sees ten pictures; None: he does not."""
        began = time.monotonic()
        while time.monotonic() - began < seconds:
            if len(self.watch(feed, 5)[0]) >= 10:
                return time.monotonic() - began
        return None


def wait_for(what, seconds):
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        if what():
            return True
        time.sleep(0.5)
    return False


board = Board("board")


def first_start():
    board.on()
    took = board.picture(240)
    check("switched on, a picture comes", took is not None, f"{time.monotonic() - board.began:.1f} s after the power switch")
    times = board.sh("journalctl -o short-monotonic -b --no-pager | grep -e 'Starting bambino.service' -e 'Started bambino.service' | cut -d ']' -f 1") or ""
    since = [float(t) for t in re.findall(r"[\d.]+", times)]
    check("the service starts, and says that it is ready", len(since) == 2, " s, ".join(f"{t:.1f}" for t in since) + " s after the kernel's start")
    written = board.sh("cat /etc/bambino/bambino.ini") or ""
    check("a configuration was written that names the camera", "device = platform:vivid" in written, (re.findall(r"device = .*", written) or ["none"])[0])
    check("what it writes to its root is gone with the power", "overlay" in (board.sh("grep ' / ' /proc/mounts") or ""))
    user = board.sh("stat -c %U /proc/$(pidof -s bambino)")
    check("the service runs as a user of its own", user == "bambino", user)
    r = subprocess.run(["ffprobe", "-v", "error", "-rtsp_transport", "tcp", "-show_entries", "stream=codec_name,width", "-of", "csv=p=0", f"rtsp://127.0.0.1:{board.rtsp}/camera"],
                       capture_output=True, text=True, timeout=60)
    check("a player on another machine sees it", r.stdout.strip() == "mjpeg,640", r.stdout.strip() + r.stderr.strip()[:100])


def at_rest():
    """Voluntary switches of all its threads in ten seconds."""
    count = "cat /proc/$(pidof -s bambino)/task/*/status | grep ^voluntary | tr -dc '0-9\\n' | (s=0; while read n; do s=$((s + n)); done; echo $s)"
    board.sh("sed -i 's/^\\[feed camera\\]/[feed camera]\\ncamera-rests = 1/' /etc/bambino/bambino.ini; systemctl restart bambino")
    time.sleep(8)
    before = int(board.sh(count) or 0)
    time.sleep(10)
    after = int(board.sh(count) or 0)
    rate = (after - before) / 10
    check("at rest, with the camera off, it wakes up less than five times a second", before > 0 and rate < 5, f"{rate:.1f} times")
    board.sh("sed -i '/^camera-rests = 1/d' /etc/bambino/bambino.ini; systemctl restart bambino")
    check("and it serves again", board.picture(120) is not None)


def faults():
    pid = board.sh("pidof -s bambino")
    board.sh("kill -9 $(pidof -s bambino)")
    took = board.picture(120)
    check("killed, it is back", took is not None and board.sh("pidof -s bambino") != pid, f"{took or 0:.1f} s")
    began = time.monotonic()
    pid = board.sh("pidof -s bambino")
    board.sh("kill -STOP $(pidof -s bambino)")
    back = wait_for(lambda: board.sh("pidof -s bambino") not in (pid, "", None), 60) and board.picture(120) is not None
    check("hung, the watchdog starts it again", back, f"{time.monotonic() - began:.1f} s")
    board.sh("systemctl set-property --runtime bambino MemoryMax=1M; systemctl restart --no-block bambino")
    time.sleep(12)
    killed = board.sh("dmesg | grep -c 'Killed process.*bambino'")
    board.sh("systemctl set-property --runtime bambino MemoryMax=infinity")
    took = board.picture(180)
    check("out of memory it is killed, and comes back when there is some", took is not None and int(killed or 0) > 0, f"killed {killed} times, {took or 0:.1f} s")
    full = board.sh("dd if=/dev/zero of=/state/full bs=64k 2>/dev/null; dd if=/dev/zero of=/state/full2 bs=512 2>/dev/null; df --output=target,avail /state | tail -n 1")
    check("with a full state partition it goes on", board.goes_on() and "/state" in full, full)
    board.sh("systemctl restart bambino")
    check("… and starts", board.picture(120) is not None)
    board.sh("rm /state/full /state/full2")


def feed():
    return (board.status().get("feeds") or [{}])[0]


def unplugged():
    board.sh("echo vivid.0 > /sys/bus/platform/drivers/vivid/unbind")
    gone = wait_for(lambda: feed().get("camera_state") in ("waiting", "starting"), 30)
    check("unplugged, the feed says so", gone, feed().get("camera_error"))
    board.sh("echo vivid.0 > /sys/bus/platform/drivers/vivid/bind")
    began = time.monotonic()
    check("plugged in again, it goes on", board.goes_on(), f"ten pictures after {time.monotonic() - began:.1f} s")


def swapped():
    """Another camera in place of the one that is named, and of one that is not."""
    plug = lambda which: board.sh(f"echo vivid.0 > /sys/bus/platform/drivers/vivid/unbind; for i in 1 2 3 4 5; do modprobe -r vivid && break; sleep 1; done; modprobe vivid {which}")
    plug("n_devs=2 node_types=0x100,0x1")  # the first of the two only shows pictures
    check("another camera comes in its place: it is not taken for the one that is named", wait_for(lambda: feed().get("camera_state") == "waiting", 30) and not board.goes_on(seconds=6))
    check("the log says which one is missed", "no camera matches platform:vivid-000" in (board.sh("journalctl -u bambino -n 200 --no-pager | cat") or ""))
    check("and cameras tells what there is", "platform:vivid-001" in (board.sh("bambino cameras") or ""))
    board.sh("sed -i 's/vivid-000/vivid-001/' /etc/bambino/bambino.ini; systemctl restart bambino")
    check("named anew, it streams", board.picture(120) is not None)
    board.sh("sed -i '/^device = /d' /etc/bambino/bambino.ini; systemctl restart bambino")
    check("without a name the one that is there streams", board.picture(120) is not None)
    plug("")
    check("and whichever of its kind comes then", board.goes_on(), feed().get("camera_state"))
    board.sh("bambino cameras --write /etc/bambino/bambino.ini --overwrite; systemctl restart bambino")
    board.picture(120)


def upgrade():
    version = re.search(r"bambino_([\d.]+)_arm64", glob.glob(f"{packages}/bambino_*_arm64.deb")[0])[1]
    newer = f"{work}/newer"
    subprocess.run(["dpkg-deb", "-R", glob.glob(f"{packages}/bambino_*_arm64.deb")[0], newer], check=True)
    control = open(f"{newer}/DEBIAN/control").read().replace(f"Version: {version}\n", f"Version: {version}+1\n")
    open(f"{newer}/DEBIAN/control", "w").write(control)
    subprocess.run(["dpkg-deb", "--root-owner-group", "-b", newer, f"{work}/newer.deb"], check=True, capture_output=True)
    size = os.path.getsize(f"{work}/newer.deb")
    with open(board.third, "r+b") as f:
        f.write(open(f"{work}/newer.deb", "rb").read())
    seen, stop = [], threading.Event()
    viewer = threading.Thread(target=lambda: seen.extend(board.watch("camera", 150, stop)))
    viewer.start()
    pid = board.sh("pidof -s bambino")
    time.sleep(3)
    said = board.sh(f"head -c {size} /dev/vdc > /run/newer.deb && dpkg -i --force-confold /run/newer.deb", 120)
    time.sleep(6)
    stop.set()
    viewer.join(10)
    times, connected = seen
    gap = max((b - a for a, b in zip(times, times[1:])), default=99)
    check("upgraded while somebody watches, he has to connect once more", connected == 2 and gap < 15, f"{connected} connections, {gap:.1f} s without a picture")
    check("another process serves", board.sh("pidof -s bambino") not in (pid, None, ""))
    check("the new package is there", board.sh("dpkg-query -W -f='${Version}' bambino") == f"{version}+1", (said or "")[-60:])


def guide():
    """docs/on-your-board.md, word by word: each line of its blocks that belongs to the board."""
    text = open("docs/on-your-board.md").read()
    name = os.path.basename(glob.glob(f"{packages}/bambino_*_arm64.deb")[0])
    board.sh("mkdir -p /run/guide && cd /run/guide && export HOME=/root && sudo() { \"$@\"; }; editor() { test -s \"$1\"; }")  # which a board has
    board.sh(f"cp /run/newer.deb {name}; dpkg-deb --fsys-tarfile {name} | tar -x -C / ./etc/bambino/bambino.ini; systemctl restart bambino")
    board.picture(180, "front")
    lines = [line for block in re.findall(r"```sh\n(.*?)```", text, re.S) for line in block.splitlines()]
    ran = 0
    for line in lines:
        command = line.split("#")[0].strip()
        if command.startswith(("make ", "scp ", "ssh ")):  # another machine's
            continue
        if command.endswith("/etc/bambino.ini") and "service" in command:  # in place of the package's
            board.sh("systemctl stop bambino")
        if re.search(r"bambino run /etc", command):  # until Ctrl-C
            board.sh("systemctl stop bambino")
            command = f"timeout --signal=INT --preserve-status 8 {command}"
        said = board.sh(f"({command}); echo status:$?", 180) or "nothing"
        ran += 1
        check(f"the guide's {line.split('#')[0].strip()}", said.endswith("status:0"), "" if said.endswith("status:0") else said[-300:])
    check("the guide has lines for a board", ran >= 9, f"{ran} lines")
    check("its picture is one", (board.sh("head -c 3 /run/guide/first.jpg | od -An -tx1") or "") == "ff d8 ff")
    if not check("and it ends with a board that streams", board.picture(180) is not None):
        print(board.sh("systemctl status --no-pager -l bambino | tail -n 20; cat /etc/bambino.ini /etc/systemd/system/bambino.service; ls -l /dev/video* /etc/bambino.ini"))
    board.sh("bambino service remove; systemctl daemon-reload; systemctl restart bambino")


def announced():
    """By the service as it is confined."""
    board.sh("cp /etc/bambino/bambino.ini /run/kept; printf '\\n[network]\\nannounce = 1\\n' >> /etc/bambino/bambino.ini; systemctl restart bambino")
    said = "journalctl -u bambino -b --no-pager | grep -o 'announced in the network as.*'"
    check("asked to, the service announces what it serves", wait_for(lambda: "board.local" in (board.sh(said) or ""), 30), board.sh(said) or board.sh("journalctl -u bambino -n 9 --no-pager; systemctl status avahi-daemon --no-pager"))
    board.sh("cp /run/kept /etc/bambino/bambino.ini; systemctl restart bambino")
    board.picture(120)


def usb():
    """A camera at USB beside the one that streams: in software, plugged into the kernel's virtual host controller."""
    clip = open("demo/loco.mjpeg", "rb").read()
    program = open(options.usb, "rb").read()
    with open(board.third, "r+b") as f:
        f.write(program + clip)
    board.sh(f"modprobe vhci-hcd; head -c {len(program)} /dev/vdc > /run/usb; tail -c +{len(program) + 1} /dev/vdc | head -c {len(clip)} > /run/clip; chmod +x /run/usb")
    plug = "(/run/usb 0 /run/clip 320 240 10 'Siding camera' >/run/usb.said 2>&1 &)"
    board.sh(plug)
    seen = wait_for(lambda: "usb-vhci_hcd.0-1" in (board.sh("bambino cameras") or ""), 30)
    check("plugged in, a USB camera is found", seen, "" if seen else board.sh("bambino cameras; cat /run/usb.said; dmesg | tail"))
    board.sh("cp /etc/bambino/bambino.ini /run/kept; sed -i 's/^device = .*/device = usb-vhci_hcd.0-1/; /^size = /d; /^rate = /d' /etc/bambino/bambino.ini; systemctl restart bambino")
    if not check("named, it streams", board.picture(120) is not None and board.goes_on(), feed().get("camera_error", "")):
        print(board.sh("cat /etc/bambino/bambino.ini; journalctl -u bambino -n 12 --no-pager | cat; cat /run/usb.said"))
    check("as it delivers them: nothing is encoded", "streams MJPEG" in (board.sh("cat /run/usb.said") or "") and feed().get("codec") == "jpeg", feed().get("codec"))
    board.sh("kill $(pidof usb)")
    check("pulled out, the feed says so", wait_for(lambda: feed().get("camera_state") in ("waiting", "starting"), 30), feed().get("camera_error"))
    board.sh(plug)
    began = time.monotonic()
    check("plugged in again, it goes on", board.goes_on(), f"ten pictures after {time.monotonic() - began:.1f} s")
    board.sh("kill $(pidof usb); cp /run/kept /etc/bambino/bambino.ini; systemctl restart bambino")
    board.picture(120)


def cuts():
    """The first one cuts the board that runs already, the others one that was just switched on."""
    for i in range(options.cuts):
        if i > 0:
            board.off()
            board.on()
        at = random.uniform(5, 45)
        end = time.monotonic() + (at if i > 0 else at / 5)
        writing = False
        while time.monotonic() < end:
            if not writing and board.get("/status.json"):
                writing = True  # as much is written as can be, when it happens
                board.sh("(while :; do echo $RANDOM > /state/bambino/busy; cp /etc/bambino/bambino.ini /state/bambino/copy; sync; done) >/dev/null 2>&1 &", 5)
            time.sleep(0.2)
        board.off()
        board.on()
        took = board.picture(240)
        when = f"{at:.1f} s after it was switched on" if i > 0 else "while it runs"
        if not check(f"power cut {i + 1}, {when}: it comes back and streams", took is not None, f"{took or 0:.1f} s"):
            shutil.copy(f"{work}/console", f"{image}/console-of-cut-{i + 1}")
    if options.cuts > 0:
        check("at the end the settings are what they were", "vivid" in (board.sh("cat /etc/bambino/bambino.ini") or ""))


def late():
    """No camera when it starts, a clock of 1970, and a network that comes later."""
    board.on("modprobe.blacklist=vivid", rtc="base=1970-01-01T00:00:00", network=False)
    started = board.sh("while ! systemctl is-active --quiet bambino; do sleep 1; done; echo started", 300)
    check("without camera, network and clock the service starts", started is not None and "started" in started)
    board.sh("modprobe vivid")
    board.monitor("set_link card on")
    took = board.picture(180, "front")
    if not check("camera and network come: so do pictures", took is not None, f"{took or 0:.1f} s"):
        print(board.sh("systemctl status --no-pager bambino | tail -n 12; ip -br address; ls /dev/video*; tail -n 20 /etc/bambino/bambino.ini"))
    board.sh(f"date -s @{int(time.time())}")
    check("the clock is set: they go on", board.goes_on("front"))
    board.sh("bambino cameras --write /etc/bambino/bambino.ini --overwrite; systemctl restart bambino")
    board.picture(120)


rounds = {f.__name__: f for f in (first_start, late, at_rest, faults, unplugged, swapped, announced, usb, upgrade, guide, cuts)}
lanes = [("first_start", "at_rest", "faults", "unplugged", "swapped", "cuts"), ("late", "announced", "usb", "upgrade", "guide")]


def lane(names):
    """Another process with some of the rounds, on a board of its own. Its lines come as it writes them."""
    process = subprocess.Popen([sys.executable, __file__, *sys.argv[1:], "--only", ",".join(names)], stdout=subprocess.PIPE, text=True)
    for line in process.stdout:
        m = re.match(r"(\d+) passed, (\d+) failed$", line)
        if m:
            global passed, failed
            passed, failed = passed + int(m[1]), failed + int(m[2])
        else:
            print(f"{lanes.index(names) + 1}| {line}", end="", flush=True)
    check(f"board {lanes.index(names) + 1} got to its end", process.wait() in (0, 1))


if not options.only:
    both = [threading.Thread(target=lane, args=[names]) for names in lanes]
    for thread in both:
        thread.start()
    for thread in both:
        thread.join()
    shutil.rmtree(work)
    print(f"{passed} passed, {failed} failed")
    sys.exit(failed > 0)
chosen = [n for n in rounds if n in options.only.split(",") and (n != "usb" or options.usb)]
try:
    if chosen and chosen[0] not in ("first_start", "late"):
        board.on()
        board.picture(240)
    for name in chosen:
        print(f"{name.replace('_', ' ')} ({time.monotonic() - board.began if board.process else 0:.0f} s)", flush=True)
        rounds[name]()
finally:
    if board.process and board.process.poll() is None:
        board.off()
    if failed:
        shutil.copy(f"{work}/console", f"{image}/console-{chosen[0]}")
    shutil.rmtree(work)
print(f"{passed} passed, {failed} failed")
sys.exit(failed > 0)
