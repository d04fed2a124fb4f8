#!/usr/bin/env python3
"""Cameras of real kernel drivers, inside an emulated machine (scripts/kernel): vivid, and uvcvideo with a USB camera in
software. guest.py BAMBINO USB_CAMERA SOURCE CYCLES"""
import fcntl, glob, os, pwd, re, shutil, signal, socket, struct, subprocess, sys, threading, time

bambino, usb_camera, source, cycles = sys.argv[1], sys.argv[2], sys.argv[3], int(sys.argv[4])
clip = f"{source}/demo/loco.mjpeg"
WORK = os.environ["WORK"]  # the only folder that can be written to
passed, failed = 0, 0


def check(what, good, shown=""):
    global passed, failed
    passed, failed = passed + bool(good), failed + (not good)
    print(("ok      " if good else "FAILED  ") + what + (f": {shown}" if shown != "" else ""), flush=True)


def says(what, text, part):
    check(what, part in text, "" if part in text else f'no "{part}" in:\n{text}')


def run(*args, program=None, **more):
    p = subprocess.run([program or bambino, *args], stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True, timeout=60, **more)
    return p.returncode, p.stdout


def wait_for(what, seconds):
    end = time.monotonic() + seconds
    while not what() and time.monotonic() < end:
        time.sleep(0.01)
    return what()


def nodes():
    return glob.glob("/dev/video*")


class Camera:
    """A USB camera that is plugged in for as long as it is not unplugged."""

    def __init__(self, port=0, name="Siding camera"):
        before = set(nodes())
        self.log = open(f"{WORK}/usb-{port}.txt", "a+")
        self.child = subprocess.Popen([usb_camera, str(port), clip, "320", "240", "10", name], stdout=self.log)
        wait_for(lambda: set(nodes()) - before, 10)
        self.since = time.monotonic()

    def unplug(self):
        self.child.kill()
        self.child.wait()

    def said(self):
        self.log.seek(0)
        return self.log.read()


class Device:
    """`bambino run`, with its output."""

    def __init__(self, config=None, *more):
        self.out = f"{WORK}/device.txt"
        args = [bambino, "run"]
        if config is not None:
            with open(f"{WORK}/device.ini", "w") as f:
                f.write(config)
            args.append(f"{WORK}/device.ini")
        self.since = time.monotonic()
        self.child = subprocess.Popen([*args, *more], stdout=open(self.out, "w"), stderr=subprocess.STDOUT)

    def text(self):
        with open(self.out) as f:
            return f.read()

    def files(self):
        return len(os.listdir(f"/proc/{self.child.pid}/fd"))

    def maps(self):
        with open(f"/proc/{self.child.pid}/maps") as f:
            return f.read().count("/dev/video")

    def memory(self):
        with open(f"/proc/{self.child.pid}/status") as f:
            return int(re.search(r"VmRSS:\s+(\d+)", f.read())[1])

    def end(self):
        self.child.send_signal(signal.SIGINT)
        return self.child.wait(timeout=20)


def fetch(path, port=8080, seconds=10):
    """Tries until there is an answer: the device may only just begin."""
    end = time.monotonic() + seconds
    while True:
        try:
            with socket.create_connection(("127.0.0.1", port), timeout=5) as s:
                s.sendall(f"GET {path} HTTP/1.0\r\n\r\n".encode())
                data = b""
                while part := s.recv(65536):
                    data += part
            head, _, body = data.partition(b"\r\n\r\n")
            status = int(head.split()[1]) if head else 0
            if status == 200 or time.monotonic() > end:
                return status, body
        except OSError:
            if time.monotonic() > end:
                return 0, b""
        time.sleep(0.02)


class Viewer(threading.Thread):
    """Watches a feed as MJPEG and notes when each picture came."""

    def __init__(self, path):
        super().__init__(daemon=True)
        self.path, self.count, self.last, self.ended = path, 0, 0.0, False
        self.start()

    def run(self):
        try:
            with socket.create_connection(("127.0.0.1", 8080)) as s:
                s.sendall(f"GET {self.path} HTTP/1.1\r\nHost: localhost\r\n\r\n".encode())
                rest = b""
                while part := s.recv(65536):
                    data = rest + part
                    n = data.count(b"\xff\xd8\xff")
                    if n:
                        self.count, self.last = self.count + n, time.monotonic()
                    rest = data[-2:]
        except OSError:
            pass
        self.ended = True


def size_of(jpeg):
    """Width and height from the frame header."""
    at = 2
    while at + 9 < len(jpeg):
        marker, length = jpeg[at + 1], struct.unpack(">H", jpeg[at + 2 : at + 4])[0]
        if marker in (0xC0, 0xC1, 0xC2):
            height, width = struct.unpack(">HH", jpeg[at + 5 : at + 9])
            return width, height
        at += 2 + length
    return None


def control(node, wanted, value):
    """Sets a control of the driver's by its name (VIDIOC_QUERYCTRL, VIDIOC_S_CTRL)."""
    with open(node, "rb+", buffering=0) as f:
        number = 0
        while True:
            query = bytearray(struct.pack("=II32siiiiI2I", number | 0x80000000, 0, b"", 0, 0, 0, 0, 0, 0, 0))
            try:
                fcntl.ioctl(f, 0xC0445624, query)
            except OSError:
                return False
            number = struct.unpack("=I", query[:4])[0]
            if query[8:40].split(b"\0")[0].decode() == wanted:
                fcntl.ioctl(f, 0xC008561C, struct.pack("=Ii", number, value))
                return True


OUTLETS = "[http]\nlisten = 127.0.0.1:8080\n[rtsp]\nlisten = 127.0.0.1:8554\n"


def without_a_camera():
    status, out = run("run")
    check("without a camera, run ends", status == 2)
    says("and says what to do", out, "no camera is attached to this machine")
    device = Device(OUTLETS + "[camera front]\n[feed front]\n")
    wait_for(lambda: "no camera is attached; plug one in" in device.text(), 5)
    says("a configured one is waited for", device.text(), "no camera is attached; plug one in")
    camera = Camera()
    status, body = fetch("/front.jpg", seconds=5)
    check("it is served as soon as it is plugged in", status == 200 and size_of(body) == (320, 240))
    check("and the device ends well", device.end() == 0)
    camera.unplug()


def the_first_picture():
    camera = Camera()
    device = Device()
    status, body = fetch("/camera.jpg", seconds=10)
    check("without a file, the first camera's picture comes", status == 200, f"after {time.monotonic() - device.since:.2f} s")
    says("and the file is shown that would have said it", device.text(), "[camera camera]\ndevice = usb-vhci_hcd.0-1\n")
    check("its picture is whole", body[:3] == b"\xff\xd8\xff" and body[-2:] == b"\xff\xd9")
    with open(clip, "rb") as f:
        check("and byte for byte the camera's", body in f.read())
    status, out = run("photo", "--out", f"{WORK}/busy.jpg")
    check("a photo of a camera that streams is the device's", status == 0 and "from the device that streams" in out, out)
    with open(f"{WORK}/other.ini", "w") as f:
        f.write("[http]\nlisten = 127.0.0.1:9\n[camera c]\n[feed c]\n")
    status, out = run("photo", "c", "--config", f"{WORK}/other.ini", "--out", f"{WORK}/none.jpg")
    says("without one, whoever has it is named", out, f"is used by bambino (process {device.child.pid})")
    device.end()
    device = Device(OUTLETS + "[camera front]\n[feed front]\n")
    fetch("/front.jpg")
    says("which one is the first is said", device.text(), 'camera "front" is Siding camera, /dev/video0 at usb-vhci_hcd.0-1')
    device.end()
    says("and what came of it at the end", device.text(), "pictures from the driver, 0 lost by it, 0 damaged, started 1 times")
    status, out = run("photo", "--out", f"{WORK}/bright.jpg", "--set", "brightness=50")
    check("a control reaches the camera", status == 0 and "brightness 50" in camera.said(), out if status else "")
    camera.unplug()


def no_permission():
    camera = Camera()
    try:
        group = [g for g in open("/etc/group") if g.startswith("video:")][0].split(":")
        for node in nodes():
            os.chown(node, 0, int(group[2]))
            os.chmod(node, 0o660)
        nobody = pwd.getpwnam("nobody").pw_uid
        own = shutil.copy(bambino, WORK)  # the folder that it was built in may be closed to others
        with open(f"{WORK}/nobody.ini", "w") as f:
            f.write("[http]\nlisten = 127.0.0.1:9\n[camera c]\ndevice = /dev/video0\n[feed c]\n")
        status, out = run("photo", "c", "--config", f"{WORK}/nobody.ini", "--out", f"{WORK}/none.jpg", program=own, user=nobody,
                          group=65534, extra_groups=[])
        says("without permission, the group is named", out, 'may be used by the group "video" alone')
    finally:
        camera.unplug()


def two_equal_cameras():
    first, second = Camera(0), Camera(1)
    status, out = run("cameras")
    check("two equal cameras are told apart", "usb-vhci_hcd.0-1" in out and "usb-vhci_hcd.0-2" in out and status == 0,
          "" if status == 0 else out)
    second_place = "usb-vhci_hcd.0-2"
    first.unplug()
    second.unplug()
    second = Camera(1)  # now it is the first, by number
    with open(f"{WORK}/two.ini", "w") as f:
        f.write(OUTLETS + f"[camera a]\ndevice = usb-vhci_hcd.0-1\n[camera b]\ndevice = {second_place}\n[feed a]\n[feed b]\n")
    status, out = run("cameras", f"{WORK}/two.ini")
    check("and keep their places", "1 attached, 1 missing" in out and f"at {second_place}, driver uvcvideo" in out, out)
    second.unplug()


def unplugged(count):
    camera = Camera()
    device = Device(OUTLETS + "[camera front]\ndevice = siding\n[feed front]\n")
    fetch("/front.jpg")
    viewers = [Viewer("/front.mjpeg"), Viewer("/front.mjpeg")]
    wait_for(lambda: all(v.count > 3 for v in viewers), 10)
    waits, first = [], None
    for cycle in range(count):
        camera.unplug()
        wait_for(lambda: not nodes(), 5)
        camera = Camera()
        if not wait_for(lambda: all(v.last > camera.since for v in viewers), 8):
            break
        waits.append(min(v.last for v in viewers) - camera.since)
        if cycle == 4:
            first = device.files(), device.maps(), device.memory()
    last = device.files(), device.maps(), device.memory()
    waits.sort()
    check(f"{count} times unplugged and back, two viewers go on", len(waits) == count and not any(v.ended for v in viewers),
          f"{len(waits)} times")
    if waits and first:
        print(f"        after its return: median {waits[len(waits) // 2]:.2f} s, most {waits[-1]:.2f} s, {sum(w >= 1.0 for w in waits)} over 1 s")
        check("no descriptor, no mapping is left over", last[0] <= first[0] and last[1] <= first[1],
              f"{first[0]} and {last[0]} descriptors, {first[1]} and {last[1]} mappings")
        check("no memory either", last[2] < first[2] + 2048, f"{first[2]} and {last[2]} KiB")
    says("the log says that it is gone", device.text(), "no camera matches siding; plug it in")
    says("and that it is back", device.text(), "the camera is back after")
    check("and the device ends well", device.end() == 0)
    camera.unplug()


def raw():
    os.makedirs(f"{WORK}/m/lib", exist_ok=True)
    if not os.path.exists(f"{WORK}/m/lib/modules"):
        os.symlink(f"{WORK}/modules", f"{WORK}/m/lib/modules")
    done = subprocess.run(["modprobe", "-d", f"{WORK}/m", "vivid", "n_devs=3", "node_types=0x1,0x1,0x1",
                           "multiplanar=1,2,1", "num_inputs=1,1,2", "input_types=0,0,0xd"], capture_output=True, text=True)
    if not wait_for(lambda: len(nodes()) >= 3, 5):
        check("vivid is there", False, done.stderr)
        return
    status, out = run("cameras")
    check("single- and multi-planar nodes are listed", status == 0 and out.count("driver vivid") == 3, "" if status == 0 else out)
    device = Device(OUTLETS + """[camera front]
device = /dev/video0
[feed large]
camera = front
codec = h264
size = 640x360
rate = 10
[feed small]
camera = front
codec = jpeg
size = 320x180
rate = 5
[camera side]
device = /dev/video1
[feed side]
size = 320x180
rate = 5
""")
    status, body = fetch("/small.jpg")
    check("a small feed of a raw camera", status == 200 and size_of(body) == (320, 180))
    status, body = fetch("/large.jpg")
    check("a still of its H.264 feed", status == 200 and size_of(body) == (640, 360))
    status, body = fetch("/side.jpg")
    check("a multi-planar one", status == 200 and size_of(body) == (320, 180))
    viewer = Viewer("/small.mjpeg")
    wait_for(lambda: viewer.count > 2, 10)
    before = viewer.count
    check("a driver's control damages pictures", control("/dev/video0", "Inject V4L2_BUF_FLAG_ERROR", 1))
    check("and the stream goes on", wait_for(lambda: viewer.count > before + 3, 10))
    check("the driver disconnects", control("/dev/video0", "Disconnect", 1))
    wait_for(lambda: "failed" in device.text(), 10)
    says("which is told", device.text(), 'feed "small": the camera failed')
    check("and the other camera goes on", fetch("/side.jpg")[0] == 200)
    check("and the device ends well", device.end() == 0)


def a_receiver():
    """An HDMI receiver, with a second input; what arrives is the driver's to say."""
    if len(nodes()) < 3:
        return
    status, out = run("cameras")
    says("its inputs are told", out, "signal   TV 0; inputs: 0 TV 0 (in use), 1 HDMI 0")
    device = Device(OUTLETS + """[camera hdmi]
device = /dev/video2
video-input = HDMI
[feed hdmi]
size = 320x180
rate = 2
""")
    status, out = run("cameras", f"{WORK}/device.ini")
    says("what arrives at its input is told", out, "signal   HDMI 0: 1280x720 at 60/s; inputs: 0 TV 0, 1 HDMI 0 (in use)")
    state = lambda: re.search(rb'"camera_state":"([^"]*)"', fetch("/status.json")[1])[1]
    status, body = fetch("/hdmi.jpg")
    check("what arrives is served", status == 200 and size_of(body) == (320, 180))
    viewer = Viewer("/hdmi.mjpeg")
    wait_for(lambda: viewer.count > 1, 10)
    check("the source is switched off", control("/dev/video2", "DV Timings Signal Mode", 1))
    check("the status says that there is no signal", wait_for(lambda: state() == b"no-signal", 20), state())
    says("and so does the log", device.text(), "no signal: /dev/video2 has no signal at its input HDMI")
    before = viewer.count
    check("it is switched on again", control("/dev/video2", "DV Timings Signal Mode", 0))
    check("and the viewer goes on", wait_for(lambda: viewer.count > before + 1, 20) and not viewer.ended)
    check("and the device ends well", device.end() == 0)


without_a_camera()
the_first_picture()
no_permission()
two_equal_cameras()
unplugged(cycles)
raw()
a_receiver()
print(f"{passed} passed, {failed} failed")
sys.exit(failed > 0)
