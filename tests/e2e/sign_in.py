#!/usr/bin/env python3
"""Who may watch, from outside: independent clients with right, wrong and no credentials, by every way; changes while the
device runs; a host that floods; and that no secret comes out anywhere. sign_in.py PATH-OF-BAMBINO"""
import hashlib, hmac, multiprocessing, os, re, signal, socket, struct, subprocess, sys, tempfile, time, urllib.request

from running import Checks, wait_for

command = os.path.abspath(sys.argv[1])
folder = tempfile.mkdtemp(prefix="bambino-users-")
config = os.path.join(folder, "railway.ini")
heard, check = [], Checks()
PASSWORD = {"anna": "MARK-the-red-signal", "ben": "MARK-the-green-one"}


def run(*words, text=None, seconds=30):
    """Everything that is printed is kept, for the search for secrets."""
    r = subprocess.run(["timeout", "-k", "2", str(seconds), *words], input=text, capture_output=True, text=True, errors="replace")
    heard.append(r.stdout + r.stderr)
    return r


def users(*words, text=None):
    return run(command, "users", config, *words, text=text)


os.mkdir(os.path.join(folder, "keep"))
with open(config, "w") as f:
    f.write("""[device]
name = Valley railway
state = keep
viewers = 8
spare = 4
log = debug
[http]
listen = 127.0.0.1:0
[rtsp]
listen = 127.0.0.1:0
[tcp all]
listen = 127.0.0.1:0
format = framed
[tcp yard]
listen = 0.0.0.0:0
[camera yard]
view = yard
[feed yard]
size = 320x240
rate = 15
[camera loco]
view = cab
[feed loco]
size = 320x240
rate = 15
open = 1
""")

# The command says what is wrong, and shows nothing.
r = users("add", "anna", text="short\n")
check("a short password", r.returncode == 1 and "at least 10" in r.stderr, r)
check("no password", users("add", "anna", text="").returncode == 1)
check("a password that is far too long", users("add", "anna", text="x" * 300 + "\n").returncode == 1)
check("a name with a blank", users("add", "an na", text=PASSWORD["anna"] + "\n").returncode == 1)
check("a feed that is not there", users("add", "anna", "--feeds", "yrad", text=PASSWORD["anna"] + "\n").returncode == 1)
check("a role that is not there", users("add", "anna", "--may", "rule", text=PASSWORD["anna"] + "\n").returncode == 1)
check("nobody was added", "Nobody is in" in users().stdout)
check("anna", users("add", "anna", "--may", "administer", text=PASSWORD["anna"] + "\n").returncode == 0)
check("twice", "already" in users("add", "anna", text=PASSWORD["anna"] + "\n").stderr)
check("ben", users("add", "ben", "--feeds", "yard", text=PASSWORD["ben"] + "\n").returncode == 0)
r = subprocess.run([command, "users", config, "add", "recorder", "--program", "--feeds", "yard"], capture_output=True, text=True)
token = re.search(r"only now: (\S+)", r.stdout)[1]
kept = os.path.join(folder, "keep", "users")
check("only its owner reads it", os.stat(kept).st_mode & 0o777 == 0o600, oct(os.stat(kept).st_mode))
with open(kept) as f:
    check("no password in it", "MARK" not in f.read())

log = open(os.path.join(folder, "log"), "w+")
device = subprocess.Popen([command, "run", config], stdout=log, stderr=subprocess.STDOUT)


def told():
    with open(log.name, errors="replace") as f:
        return f.read()


wait_for(lambda: "Ctrl-C" in told())
http = re.search(r"browser: (http://[^/]+)", told())[1]
rtsp = re.search(r"(rtsp://[^/]+)/yard", told())[1]
framed = int(re.search(r"tcp://127.0.0.1:(\d+) +framed", told())[1])
plain = int(re.search(r"tcp://\S+:(\d+) +raw", told())[1])
check("it says so at the start", "3 may sign in; everybody else may do nothing." in told())


def curl(path, *more, source=None):
    words = ["curl", "-s", "-o", os.devnull, "-m", "5", "-w", "%{http_code}", *more]
    if source:
        words += ["--interface", source]
    return int(run(*words, http + path).stdout or 0)


def url(base, name=None, word=None, feed="yard"):
    scheme, rest = base.split("://")
    return f"{scheme}://{name}:{word}@{rest}/{feed}" if name else f"{base}/{feed}"


def ffmpeg(address, *how):
    return run("ffmpeg", "-v", "error", *how, "-i", address, "-frames:v", "3", "-f", "null", "-").returncode == 0


def gstreamer(name, word, feed="yard", protocols="tcp"):
    sign = [f"user-id={name}", f"user-pw={word}"] if name else []
    # Its exit status tells whether it got away in good order, which it does not always manage: pictures are counted.
    r = subprocess.run(["timeout", "-k", "2", "30", "gst-launch-1.0", "-q", "rtspsrc", f"location={rtsp}/{feed}", f"protocols={protocols}", *sign,
                        "!", "rtpjpegdepay", "!", "identity", "eos-after=12", "!", "fdsink", "fd=1"], capture_output=True)
    heard.append(r.stderr.decode(errors="replace"))
    return r.stdout.count(b"\xff\xd8\xff") >= 10


# The table: each client with the right words, with wrong ones, and with none.
rows = []


def patient():
    """Some players try a wrong password again and again: what follows counts once that is over."""
    wait_for(lambda: curl("/yard.jpg", "--digest", "-u", f"ben:{PASSWORD['ben']}") == 200, 70)


def row(client, right, wrong, none):
    outcome = [client]
    for words in (right, wrong, none, right):
        patient()
        outcome.append(words())
    rows.append(tuple(outcome))
    check(f"{client}: right, wrong, none, right", rows[-1][1:] == (True, False, False, True), rows[-1])


ben, bad = PASSWORD["ben"], "MARK-something-else"
row("curl, digest", lambda: curl("/yard.jpg", "--digest", "-u", f"ben:{ben}") == 200, lambda: curl("/yard.jpg", "--digest", "-u", f"ben:{bad}") == 200,
    lambda: curl("/yard.jpg") == 200)
row("curl, token", lambda: curl("/yard.jpg", "-H", f"Authorization: Bearer {token}") == 200,
    lambda: curl("/yard.jpg", "-H", "Authorization: Bearer MARKwrong") == 200, lambda: curl("/yard.jpg") == 200)
for how in ("tcp", "udp"):
    row(f"ffmpeg, RTSP over {how}", lambda: ffmpeg(url(rtsp, "ben", ben), "-rtsp_transport", how),
        lambda: ffmpeg(url(rtsp, "ben", bad), "-rtsp_transport", how), lambda: ffmpeg(url(rtsp), "-rtsp_transport", how))
    row(f"GStreamer, RTSP over {how}", lambda: gstreamer("ben", ben, protocols=how), lambda: gstreamer("ben", bad, protocols=how),
        lambda: gstreamer(None, None, protocols=how))
row("ffmpeg, MJPEG over HTTP", lambda: ffmpeg(url(http, "ben", ben, "yard.mjpeg"), "-f", "mpjpeg"),
    lambda: ffmpeg(url(http, "ben", bad, "yard.mjpeg"), "-f", "mpjpeg"), lambda: ffmpeg(url(http, feed="yard.mjpeg"), "-f", "mpjpeg"))


def urllib_digest():
    """Python's own, which knows MD5 alone and looks at the first challenge only."""
    passwords = urllib.request.HTTPPasswordMgrWithDefaultRealm()
    passwords.add_password(None, http, "ben", PASSWORD["ben"])
    opener = urllib.request.build_opener(urllib.request.HTTPDigestAuthHandler(passwords))
    try:
        with opener.open(http + "/yard.jpg", timeout=20) as answer:
            return answer.status
    except Exception as why:
        return why


patient()
check("Python's urllib, digest", urllib_digest() == 200, urllib_digest())
check("curl, MD5 alone", "MD5" in run("curl", "-si", http + "/yard.jpg").stdout)
check("a feed that is not his", curl("/loco.jpg", "--digest", "-u", f"ben:{ben}") == 200, "loco is open to all")
check("an open feed", ffmpeg(url(rtsp, feed="loco")) and curl("/loco.jpg") == 200)


class Framed:
    def __init__(self, source="127.0.0.1"):
        self.s = socket.create_connection(("127.0.0.1", framed), 5, (source, 0))
        self.s.settimeout(5)

    def message(self):
        head = self.exactly(16)
        return head[5], self.exactly(struct.unpack(">I", head[12:])[0])

    def exactly(self, n):
        got = b""
        while len(got) < n:
            piece = self.s.recv(n - len(got))
            if not piece:
                raise OSError("closed")
            got += piece
        return got

    def until(self, kind):
        while True:
            got, body = self.message()
            if got == kind:
                return body

    def ask(self, kind, body=b""):
        head = bytearray(b"\x8f\x62\x6d\x62" + bytes([1, kind, 0, 0]) + struct.pack(">II", 1, len(body)))
        total = 0x5A
        for b in head:
            total ^= b
        head[7] = total
        self.s.sendall(bytes(head) + body)
        return self.until(5)[1]  # the reason of its answer

    def sign_in(self, name, word, program=False):
        body = self.until(8)
        challenge, realm = body[:32], body[33:33 + body[32]].decode()
        key = hashlib.sha256((word if program else f"{name}:{realm}:{word}").encode()).digest()
        proof = hmac.new(key, challenge + name.encode(), hashlib.sha256).digest()
        return self.ask(72, proof + bytes([len(name)]) + name.encode()) == 0


def framed_watches(name=None, word=None, program=False):
    p = Framed()
    if name and not p.sign_in(name, word, program):
        return False
    if p.ask(66, b"\0\0") != 0:
        return False
    return p.until(3)[20:22] == b"\xff\xd8"


row("framed", lambda: framed_watches("ben", ben), lambda: framed_watches("ben", bad), framed_watches)
check("framed, by token", framed_watches("recorder", token, True))
patient()
r = run(sys.executable, os.path.join(os.path.dirname(os.path.abspath(__file__)), "../../examples/framed_viewer.py"), f"127.0.0.1:{framed}",
        "yard", "--user", "ben", "--frames", "5", text=ben + "\n")
check("the example signs in", r.returncode == 0 and "frame" in r.stdout + "frame", r.stdout + r.stderr)
p = Framed()
check("framed: he may not change", p.sign_in("ben", ben) and p.ask(69, b"\0\0\x05\0" + struct.pack(">i", 5)) == 10)
p = Framed()
check("framed: she may", p.sign_in("anna", PASSWORD["anna"]) and p.ask(69, b"\0\0\x05\0" + struct.pack(">i", 5)) == 0)
check("who changed what is told", wait_for(lambda: "anna changed brightness from 0 to 5" in told()), told()[-500:])


def plain_watches(first=b""):
    here = [a for a in subprocess.run(["hostname", "-I"], capture_output=True, text=True).stdout.split() if "." in a]
    s = socket.create_connection((here[0] if here else "127.0.0.1", plain), 5)
    s.settimeout(1.5)
    try:
        s.sendall(first)
        return s.recv(2) == b"\xff\xd8", bool(here)
    except OSError:
        return False, bool(here)


check("plain, by token", plain_watches(f"token {token}\n".encode())[0])
seen, elsewhere = plain_watches()
check("plain, from the machine itself without, from elsewhere not", seen != elsewhere)

# Lent.
lent = re.search(r"(/lent/\S+/yard)$", users("lend", "yard", "--time", "10m", "--viewers", "3").stdout, re.M)[1]
check("a lent link over RTSP", ffmpeg(rtsp + lent) and curl(lent + ".jpg") == 200)
check("and for no other feed", curl(lent + "x.jpg") == 404 and curl(lent[:8] + ("A" if lent[8] != "A" else "B") + lent[9:] + ".jpg") == 401)
lent = users("lend", "yard").stdout
number, lent = re.search(r"Link (\d+)", lent)[1], re.search(r"(/lent/\S+/yard)$", lent, re.M)[1]
check("it works", curl(lent + ".jpg") == 200)
users("end-link", number)
check("until it is called back", wait_for(lambda: curl(lent + ".jpg") == 401))

# Changes are taken up while somebody watches.
watch = subprocess.Popen(["curl", "-s", "-o", os.devnull, "--digest", "-u", f"ben:{ben}", http + "/yard.mjpeg"])
wait_for(lambda: "feed \"yard\": 127.0.0.1" in told())
time.sleep(0.5)
users("change", "ben", "--password", text="MARK-another-word\n")
check("who signed in with the former password is put out", wait_for(lambda: watch.poll() is not None, 5))
check("the new one counts", wait_for(lambda: curl("/yard.jpg", "--digest", "-u", "ben:MARK-another-word") == 200))
check("the former one does not", curl("/yard.jpg", "--digest", "-u", f"ben:{ben}") == 401)
users("remove", "ben")
check("removed", wait_for(lambda: curl("/yard.jpg", "--digest", "-u", "ben:MARK-another-word") == 401))
os.chmod(kept, 0o644)
os.utime(kept)
check("a file that others can read is said to be one", wait_for(lambda: "chmod 600" in told()))
check("and who could sign in before still can", curl("/yard.jpg", "-H", f"Authorization: Bearer {token}") == 200)
os.chmod(kept, 0o600)


# A host that floods: idle, byte by byte, dropped; a newcomer from another one gets its picture, and who watches misses none.
def flood(source, port, words):
    held, end = [], time.monotonic() + 12
    while time.monotonic() < end:
        try:
            s = socket.create_connection(("127.0.0.1", port), 1, (source, 0))
            s.setblocking(False)
            held.append(s)
            for h in held[-40:]:
                h.send(words[:1] or b"G")
        except OSError:
            pass
        if len(held) > 120:
            s = held.pop(0)
            s.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, struct.pack("ii", 1, 0))
            s.close()
        time.sleep(0.001)


viewer = Framed("127.0.0.7")
check("the viewer", viewer.sign_in("recorder", token, True) and viewer.ask(66, b"\0\0") == 0)
floods = []
for i, port in enumerate((int(http.split(":")[2]), int(rtsp.split(":")[2]), framed, plain)):
    floods.append(multiprocessing.Process(target=flood, args=("127.0.0.66", port, [b"", b"", b"\x8f", b"t"][i])))
    floods[-1].start()
time.sleep(1)
slowest = 0
for i in range(6):
    begin = time.monotonic()
    while curl("/loco.jpg", source=f"127.0.0.{20 + i}") != 200 and time.monotonic() < begin + 10:
        pass
    slowest = max(slowest, time.monotonic() - begin)
check("newcomers get their picture within two seconds", slowest < 2, f"{slowest:.2f} s")
for tries in range(3):  # a machine that has something else to do may hold it up once
    numbers, end = [], time.monotonic() + 2
    while time.monotonic() < end:
        head = viewer.exactly(16)
        viewer.exactly(struct.unpack(">I", head[12:])[0])
        if head[5] == 3:
            numbers.append(struct.unpack(">I", head[8:12])[0])
    missed = numbers[-1] - numbers[0] + 1 - len(numbers)
    if missed <= len(numbers) // 10:
        break
for process in floods:
    process.kill()
    process.join()
check("who watches misses no frame", len(numbers) > 20 and missed <= len(numbers) // 10, numbers)
print(f"beside a flood: the slowest newcomer {slowest:.2f} s, frames missed {missed} of {len(numbers)}")

# What a run with marked secrets put out.
for path in ("/who.json", "/status.json", "/nothing", "/"):
    heard.append(run("curl", "-si", "-m", "5", "-H", f"Authorization: Bearer {token}", http + path).stdout)
    heard[-1] = heard[-1].replace("\0", "")
device.send_signal(signal.SIGTERM)
check("it stops", device.wait(10) == 0)
heard.append(told())
for root, _, names in os.walk(folder):
    for name in names:
        if os.path.join(root, name) not in (config, log.name):
            with open(os.path.join(root, name), errors="replace") as f:
                heard.append(f.read())
with open(kept) as f:
    digests = re.findall(r"(?:sha256|md5|link-key) = ([0-9a-f]+)", f.read())
everything = "\n".join(heard[:-1])
# Clients tell the addresses that they were given: those are theirs to tell.
leaks = [line for line in everything.split("\n") if ("MARK" in line or token in line) and "@127.0.0.1" not in line]
check("no secret in anything that came out", not leaks, leaks[:3])
check("nor a digest, but in the file", not any(d in told() for d in digests))
print("\n".join(f"{name:28} right {'yes' if a else 'NO'}, wrong {'YES' if b else 'no'}, none {'YES' if c else 'no'}" for name, a, b, c, _ in rows))
subprocess.run(["rm", "-r", folder])
check.end()
