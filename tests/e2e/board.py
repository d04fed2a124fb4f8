#!/usr/bin/env python3
"""Firmware on the emulated board, from outside. board.py FIRMWARE-FOLDER READ_STRIP [TEST ...]

Each image runs in QEMU; its network is QEMU's, which forwards ports of this machine's loopback interface to it. Clients
are curl, ffmpeg (which decodes) and plain sockets."""
import configparser, ctypes, gzip, json, os, re, signal, socket, struct, subprocess, sys, tempfile, time, traceback

from ports import free_port

folder, read_strip = sys.argv[1], sys.argv[2]
libc = ctypes.CDLL(None)
here = os.path.dirname(os.path.abspath(__file__))
limits = configparser.ConfigParser()
limits.read(os.path.join(here, "../../ports/mps2/limits.ini"))
work = tempfile.mkdtemp(prefix="bambino-board-")
failures = []


def check(what, ok, why=""):
    if not ok:
        failures.append(what)
        print(f"FAILED: {what} {why}")


def wait_for(condition, seconds):
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        value = condition()
        if value:
            return value
        time.sleep(0.05)
    return condition()


def reached(path):
    """The emulator's control, once it listens there: its socket has a name a moment before."""
    s = socket.socket(socket.AF_UNIX)
    try:
        s.connect(path)
        return s
    except OSError:
        s.close()
        return None


class Board:
    def __init__(self, image, *more, network=None):
        """network: of QEMU; without, its own, which forwards two ports of this machine."""
        self.host, self.http, self.rtsp = "127.0.0.1", free_port(), free_port()
        self.log = os.path.join(work, image + ".log")
        control = os.path.join(work, image + ".sock")
        forward = f"user,hostfwd=tcp:127.0.0.1:{self.http}-:80,hostfwd=tcp:127.0.0.1:{self.rtsp}-:554"
        self.process = subprocess.Popen(
            ["qemu-system-arm", "-M", "mps2-an385", "-display", "none", "-serial", f"file:{self.log}", "-monitor", "none",
             "-qmp", f"unix:{control},server=on,wait=off", "-kernel", os.path.join(folder, image + ".elf"),
             "-nic", f"{(network or forward).format(http=self.http, rtsp=self.rtsp)},model=lan9118", *more],
            # Not our own output: whoever reads that to its end would wait for an emulator that was left behind.
            stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
            preexec_fn=lambda: libc.prctl(1, signal.SIGKILL))  # PR_SET_PDEATHSIG: it goes with us
        self.control = wait_for(lambda: reached(control), 20)
        if not self.control:
            self.process.kill()
            raise OSError(f"{image}: the emulator does not answer")
        self.control.sendall(b'{"execute":"qmp_capabilities"}\n')

    def __enter__(self):
        return self

    def __exit__(self, *_):
        self.process.kill()
        self.process.wait()

    def text(self):
        with open(self.log, errors="replace") as f:
            return f.read().replace("\r", "")

    def says(self, pattern, seconds=20):
        return wait_for(lambda: re.search(pattern, self.text()) if os.path.exists(self.log) else None, seconds)

    def reset(self):
        self.control.sendall(b'{"execute":"system_reset"}\n')

    def connect(self, request=b"", receive_buffer=None, seconds=10):
        s = socket.socket()
        if receive_buffer:
            s.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, receive_buffer)
        s.settimeout(seconds)
        s.connect((self.host, self.http))
        if request:
            s.sendall(request)
        return s

    def watch(self, **how):
        return self.connect(b"GET /loco.mjpeg HTTP/1.1\r\nHost: a\r\n\r\n", **how)

    def get(self, path, seconds=10):
        r = subprocess.run(["curl", "-s", "--max-time", str(seconds), "-w", "\n%{http_code}",
                            f"http://{self.host}:{self.http}/{path}"], capture_output=True)
        body, _, code = r.stdout.rpartition(b"\n")
        return int(code or 0), body

    def status(self):
        return json.loads(self.get("status.json")[1])

    def pictures(self, url, count, *how):
        """An independent decoder shows so many, and the strips' numbers rise."""
        # One signal does not end a receiver that waits for datagrams.
        command = ["timeout", "-k", "2", "40", "ffmpeg", "-v", "error", *how, "-i", url, "-frames:v", str(count),
                   "-fps_mode", "passthrough", "-f", "rawvideo", "-pix_fmt", "gray", "-"]
        decoder = subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL)
        r = subprocess.run([read_strip, "320", "240", str(count), "100"], stdin=decoder.stdout, capture_output=True, text=True)
        decoder.stdout.close()
        decoder.wait()
        return r.returncode == 0, r.stdout


def frames_of(s, count):
    """Reads until so many parts came; how many did."""
    got, end = b"", time.monotonic() + 60
    try:
        while got.count(b"Frame-Number: ") < count and time.monotonic() < end:
            piece = s.recv(65536)
            if not piece:
                break
            got += piece
    except OSError:
        pass
    return got.count(b"Frame-Number: ")


def test_clients():
    with Board("rtsp") as b:
        check("it gets an address", b.says(r"rtsp://10\.0\.2\.15:554/loco"))
        code, picture = b.get("loco.jpg")
        check("a still", code == 200 and picture[:2] == b"\xff\xd8" and picture[-2:] == b"\xff\xd9")
        code, text = b.get("")
        check("its page", code == 200 and b"<html" in gzip.decompress(text))
        code, text = b.get("nothing")
        check("what is not there is answered with what is", code == 404 and b"/loco.mjpeg" in text)
        for name, url, how in [
            ("MJPEG", f"http://127.0.0.1:{b.http}/loco.mjpeg", ()),
            ("RTSP over TCP", f"rtsp://127.0.0.1:{b.rtsp}/loco", ("-rtsp_transport", "tcp")),
            ("RTSP over UDP", f"rtsp://127.0.0.1:{b.rtsp}/loco", ("-rtsp_transport", "udp")),
        ]:
            ok, told = b.pictures(url, 12, *how)
            check(f"{name}: pictures rise", ok, told)
        status = b.status()
        check("the status", status["feeds"][0]["frames"] > 0 and status["device"]["bad_requests"] == 0, status)

        viewers = [b.watch() for _ in range(8)]
        check("eight viewers", all(frames_of(v, 3) >= 3 for v in viewers))
        check("the ninth is refused", b.get("loco.mjpeg")[0] == 503)
        check("with the limit", b.says("8 viewers are the limit", 3))
        code, _ = b.get("loco.jpg")
        check("a still beside them", code == 200)
        for v in viewers:
            v.close()
        check("they are gone", wait_for(lambda: b.status()["device"]["viewers"] == 0, 10))
        check_memory(b, "rtsp")


def check_memory(b, image):
    """What the console says of memory, held to the limits; after the load that went before."""
    time.sleep(5.2)  # it looks that often
    text = b.text()
    stack = max(int(n) for n in re.findall(r"memory: (\d+) bytes of stack", text))
    check("stack", stack <= limits.getint(image, "stack"), f"{stack} bytes")
    check("nobody asked for a heap", "asked for 0 times" in text and not re.search(r"asked for [1-9]", text))


def open_and_drop(b):
    """Two hundred connections, at every stage of a request, ended in good order or not."""
    good = b.watch()
    frames_of(good, 2)
    refused, end = 0, time.monotonic() + 40
    for i in range(200):
        try:
            s = b.connect([b"", b"G", b"GET /loco.jpg HTTP/1.1\r\nHost: a\r\n\r\n", b"GET /loco.mjpeg HTTP"][i % 4], seconds=0.5)
        except OSError:  # no place for it just now
            refused += 1
            if time.monotonic() > end:
                break
            continue
        if i % 3 == 0:
            s.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, struct.pack("ii", 1, 0))  # closes by a reset
        s.close()
    check("most of them were taken", refused < 50, f"{refused} of {i + 1} were not")
    check("who watched goes on", frames_of(good, 10) >= 10)
    good.close()
    check("and a newcomer gets in", wait_for(lambda: b.get("loco.jpg", 3)[0] == 200, 20))
    check("all are gone", wait_for(lambda: b.status()["device"]["connections"] <= 2, 40), b.text()[-2000:])


def test_reset_in_the_middle():
    with Board("rtsp") as b:
        b.says(r"rtsp://10\.0\.2\.15")
        viewers = [b.watch() for _ in range(3)]
        check("they watch", all(frames_of(v, 2) >= 2 for v in viewers))
        udp = subprocess.Popen(["timeout", "-k", "2", "20", "ffmpeg", "-v", "quiet", "-rtsp_transport", "udp", "-i",
                                f"rtsp://127.0.0.1:{b.rtsp}/loco", "-f", "null", "-"])
        wait_for(lambda: b.status()["device"]["viewers"] == 4, 10)
        b.reset()
        begin = time.monotonic()
        first = None
        while first is None and time.monotonic() < begin + 20:
            try:
                s = b.watch()
                s.settimeout(0.3)
                first = time.monotonic() if frames_of(s, 1) >= 1 else None
                s.close()
            except OSError:
                time.sleep(0.02)
        took = first - begin if first else 99
        again = b.says(r"http://10.*\n(.*\n)*.*rtsp: mps2.*\n(.*\n)*.*http://10", 10)
        check("it starts again", again, b.text())
        ready = [float(t) for t in re.findall(r"\[ *([0-9.]+)\] http://10\.0\.2\.15:80/loco\.mjpeg", b.text())]
        # By the board's own clock: how long this machine takes for an emulated second is not the board's.
        check("it is back within a second", len(ready) == 2 and ready[1] < 1.0 and took < 15, f"{ready} {took:.2f} s")
        print(f"back after {took:.2f} s, by its own clock {ready[-1]:.3f} s")
        udp.kill()
        udp.wait()
        for v in viewers:
            v.close()


def record(name, data):
    """A record as ports/bare/records.c keeps it."""
    body = struct.pack("<II48s512s", 1, len(data), name, data)
    total = 2166136261
    for byte in body:
        total = (total ^ byte) * 16777619 & 0xFFFFFFFF
    return struct.pack("<I", total) + body


def test_faults():
    """One thing goes wrong after each start; the next one says what it was, and where."""
    with Board("faults") as b:
        check("all was tried", b.says(r"the end", 60), b.text())
        text = b.text()
        for what, said in (("power", r"start: power was switched on"), ("an instruction", r"after a fault of the processor\n.*PC 0x0*[1-9a-f][0-9a-f]*, .*CFSR 0x00010000"),
                           ("memory", r"after a fault of the processor\n.*CFSR 0x0000[0-9a-f]{4}, .*address 0x70000000"),
                           ("the stack", r"after the stack ran over its end\n"), ("the watchdog", r"after the program hung, and the watchdog ended it\n.*PC 0x0*[1-9a-f]"),
                           ("a stop", r"start: after it was stopped")):
            check(f"the reset of {what} is told", re.search(said, text), text)


def test_push():
    port = free_port(socket.SOCK_DGRAM)
    kept = os.path.join(work, "records.bin")
    with open(kept, "wb") as f:
        f.write(record(b"receiver", f"10.0.2.2:{port}".encode()))
    with Board("push", "-device", f"loader,file={kept},addr=0x21000000,force-raw=on") as b:
        check("it sends where its storage says", b.says(rf"sends to 10\.0\.2\.2:{port}"), b.text())
        check("it describes what it sends", b.says("sdp: a=rtpmap:26 JPEG/90000|sdp: m=video"), b.text())
        sdp = os.path.join(work, "push.sdp")
        with open(sdp, "w") as f:
            f.write("\n".join(re.findall(r"sdp: (.*)", b.text())).replace("10.0.2.2", "127.0.0.1") + "\n")
        ok, told = b.pictures(sdp, 10, "-protocol_whitelist", "file,udp,rtp")
        check("the receiver shows it", ok, told + b.text())
        check_memory(b, "push")


def test_cable():
    """On a cable of its own, without a host between that takes everything: a group, a client that reads nothing, and
    many that come and go. No address is given there, so the board chooses one (RFC 3927)."""
    if "inside" not in os.environ:
        if subprocess.run(["unshare", "--net", "true"], capture_output=True).returncode != 0 or not os.path.exists("/dev/net/tun"):
            print("network namespaces are not permitted here: the cable is skipped")
            return
        r = subprocess.run(["unshare", "--net", sys.executable, __file__, folder, read_strip, "cable"],
                           env={**os.environ, "inside": "1"}, capture_output=True, text=True)
        check("the cable", r.returncode == 0, r.stdout + r.stderr)
        return
    for line in ["link set lo up", "tuntap add cable mode tap", "addr add 169.254.1.1/16 dev cable",
                 "link set cable up", "route add 239.0.0.0/8 dev cable"]:
        subprocess.run(["ip", *line.split()], check=True)
    with Board("rtsp", network="tap,ifname=cable,script=no,downscript=no") as b:
        found = b.says(r"rtsp://(169\.254\.\d+\.\d+):554", 40)
        check("it chooses an address", found, b.text())
        b.host, b.http = found[1], 80
        for how in ("udp_multicast", "udp"):
            ok, told = b.pictures(f"rtsp://{b.host}/loco", 10, "-rtsp_transport", how)
            check(f"{how}: pictures rise", ok, told)

        slow, good = b.watch(receive_buffer=2048), b.watch()
        check("the other one goes on", frames_of(good, 40) >= 40)
        told = b.says("took nothing for|it held memory that the next frame needed", 15)
        check("whoever reads nothing is closed", told, b.text())
        check("the other one is still there", frames_of(good, 10) >= 10)
        status = b.status()
        check("nothing stays pinned", status["feeds"][0]["reel_pinned"] <= 2, status)
        check("it has missed little", len(status["viewers"]) == 1 and status["viewers"][0]["skipped"] <= 3, status)
        slow.close()
        good.close()
        open_and_drop(b)
        check_memory(b, "rtsp")


def test_link():
    """The cable is pulled out while somebody watches, and put in again: the viewer goes on, long before pauses that double would end."""
    with Board("rtsp", network="user,id=cable,hostfwd=tcp:127.0.0.1:{http}-:80,hostfwd=tcp:127.0.0.1:{rtsp}-:554") as b:
        b.says(r"rtsp://10\.0\.2\.15")
        v = b.watch(seconds=60)
        check("it watches", frames_of(v, 5) >= 5)
        b.control.sendall(b'{"execute":"set_link","arguments":{"name":"cable","up":false}}\n')
        v.settimeout(1)
        quiet = wait_for(lambda: frames_of(v, 1) == 0, 20)
        check("without the cable nothing comes", quiet)
        time.sleep(6)  # the pauses between what is sent again have grown meanwhile
        b.control.sendall(b'{"execute":"set_link","arguments":{"name":"cable","up":true}}\n')
        v.settimeout(30)
        begin = time.monotonic()
        check("with it the viewer goes on", frames_of(v, 3) >= 3, b.text()[-500:])
        print(f"on again after {time.monotonic() - begin:.2f} s")
        check("and the address is kept", b.get("status.json")[0] == 200)
        v.close()


def serve_dhcp(device, address, wait_for_discovers):
    """Gives that address (RFC 2131), once so many have asked for one in vain."""
    s = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    s.setsockopt(socket.SOL_SOCKET, socket.SO_BROADCAST, 1)
    s.setsockopt(socket.SOL_SOCKET, socket.SO_BINDTODEVICE, device.encode())
    s.bind(("0.0.0.0", 67))
    s.settimeout(60)
    discovers = 0
    try:
        while True:
            asked = s.recv(2000)
            kind = asked[asked.index(b"\x63\x82\x53\x63") + 6]
            discovers += kind == 1
            if discovers < wait_for_discovers or kind not in (1, 3):
                continue
            own = socket.inet_aton("192.0.2.1")
            options = b"\x63\x82\x53\x63" + bytes([53, 1, 2 if kind == 1 else 5, 54, 4]) + own + bytes([51, 4, 0, 0, 14, 16, 1, 4, 255, 255, 255, 0, 3, 4]) + own + b"\xff"
            head = b"\x02" + asked[1:12] + bytes(4) + socket.inet_aton(address) + own + bytes(4) + asked[28:44] + bytes(192)
            s.sendto(head + options, ("255.255.255.255", 68))
            if kind == 3:
                return discovers
    except (OSError, ValueError):
        return -discovers
    finally:
        s.close()


def test_late_server():
    """A router that is switched on together with the board, and takes longer: the board goes on asking every few seconds."""
    if "inside" not in os.environ:
        if subprocess.run(["unshare", "--net", "true"], capture_output=True).returncode != 0 or not os.path.exists("/dev/net/tun"):
            print("network namespaces are not permitted here: the late server is skipped")
            return
        r = subprocess.run(["unshare", "--net", sys.executable, __file__, folder, read_strip, "late_server"],
                           env={**os.environ, "inside": "1"}, capture_output=True, text=True)
        check("the late server", r.returncode == 0, r.stdout + r.stderr)
        return
    for line in ["link set lo up", "tuntap add late mode tap", "addr add 192.0.2.1/24 dev late", "link set late up"]:
        subprocess.run(["ip", *line.split()], check=True)
    with Board("rtsp", network="tap,ifname=late,script=no,downscript=no") as b:
        check("it was asked again and again", serve_dhcp("late", "192.0.2.50", 7) >= 7, b.text())
        found = b.says(r"\[ *([0-9.]+)\] rtsp://192\.0\.2\.50:554", 20)
        check("it has the address that it was given", found, b.text())
        # Another host says that it has that address (an announcement, RFC 5227 3).
        s = socket.socket(socket.AF_PACKET, socket.SOCK_RAW)
        s.bind(("late", 0))
        ours, theirs = bytes([2, 0, 0, 0, 0, 9]), socket.inet_aton("192.0.2.50")
        s.send(b"\xff" * 6 + ours + b"\x08\x06\x00\x01\x08\x00\x06\x04\x00\x01" + ours + theirs + bytes(6) + theirs)
        s.close()
        check("another host with its address is told", b.says(r"another host \(02:00:00:00:00:09\) has this board's address", 20), b.text()[-400:])
        # By the board's own clock: with pauses that double it would be two minutes.
        check("seven times within half a minute or so", found and float(found[1]) < 45, b.text())


def test_port_check():
    with Board("port_check") as b:
        told = b.says(r"port check: (\d+) failed", 100)
        check("the port check", told and told[1] == "0", b.text()[-1500:])
        check("storage is empty at first", "storage: empty" in b.text())
        b.reset()
        check("a record outlives a reset", b.says("storage: a record of before is there", 20), b.text()[-500:])


def run_all():
    """At once, each in a process of its own: they wait most of the time."""
    begin = time.monotonic()
    started = [(n, subprocess.Popen([sys.executable, __file__, folder, read_strip, n], stdout=subprocess.PIPE,
                                    stderr=subprocess.STDOUT, text=True)) for n in tests]
    for name, process in started:
        told, _ = process.communicate()
        print(f"{name} (after {time.monotonic() - begin:.0f} s): {told}", end="", flush=True)
        check(name, process.returncode == 0)


def too_long(*_):
    raise TimeoutError("this test takes too long")


tests = [n[5:] for n in list(globals()) if n.startswith("test_")]
if not os.path.exists(os.path.join(folder, "port_check.elf")):
    print("there is no firmware: make firmware")
    sys.exit(77)
if len(sys.argv) == 3:
    run_all()
signal.signal(signal.SIGALRM, too_long)
for name in sys.argv[3:]:
    signal.alarm(160 if "inside" in os.environ else 170)  # says where it stands, and ends the emulator, before whoever called loses patience
    try:
        globals()["test_" + name]()
    except Exception:
        check(name, False, traceback.format_exc())
    signal.alarm(0)
subprocess.run(["rm", "-r", work])
print("all passed" if not failures else f"{len(failures)} failed")
sys.exit(1 if failures else 0)
