#!/usr/bin/env python3
"""Encryption from outside: independent clients by each way, signing in, redirects, certificates that are kept and replaced,
pushes, and peers that do it wrong. tls.py PATH-OF-BAMBINO"""
import hashlib, hmac, os, re, shutil, signal, socket, ssl, struct, subprocess, sys, tempfile, time

from ports import free_port
from running import Checks, wait_for

command = os.path.abspath(sys.argv[1])
folder = tempfile.mkdtemp(prefix="bambino-tls-")
heard, check = [], Checks()
PASSWORD = "MARK-the-red-signal"


def at(name):
    return os.path.join(folder, name)


def run(*words, text=None, seconds=30):
    r = subprocess.run(["timeout", "-k", "2", str(seconds), *words], input=text, capture_output=True, text=True, errors="replace")
    heard.append(r.stdout + r.stderr)
    return r


class Device:
    """A running one, and where it is reached."""

    def __init__(self, config):
        self.log = open(config + ".log", "w+")
        self.process = subprocess.Popen([command, "run", config], stdout=self.log, stderr=subprocess.STDOUT)
        wait_for(lambda: "Ctrl-C" in self.told() or self.process.poll() is not None)
        self.fingerprint = re.search(r"^  ((?:[0-9A-F]{2}:){31}[0-9A-F]{2})$", self.told(), re.M)[1]

    def told(self):
        with open(self.log.name, errors="replace") as f:
            return f.read()

    def port(self, pattern):
        found = re.search(pattern, self.told())
        return int(found[1]) if found else 0

    def end(self):
        self.process.send_signal(signal.SIGTERM)
        self.process.wait(10)
        heard.append(self.told())


def write(name, text):
    with open(at(name), "w") as f:
        f.write(text)
    return at(name)


def fingerprint_at(port):
    r = run("openssl", "s_client", "-connect", f"localhost:{port}", text="")
    return run("openssl", "x509", "-noout", "-sha256", "-fingerprint", text=r.stdout).stdout.strip().split("=")[-1]


def make_certificate(name, days=90):
    run("openssl", "req", "-x509", "-nodes", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:P-256", "-days", str(days), "-subj", "/CN=localhost",
        "-addext", "subjectAltName=DNS:localhost", "-keyout", at(name + ".key"), "-out", at(name + ".crt"))


CAMERAS = """[camera yard]
view = yard
[feed yard]
size = 320x240
rate = 15
[camera loco]
view = cab
[feed loco]
size = 320x240
rate = 15
[camera station]
view = station
codec = h264
[feed station]
size = 640x360
rate = 15
"""
os.mkdir(at("keep"))
own = write("own.ini", """[device]
name = Valley railway
state = keep
viewers = 8
spare = 4
[http]
listen = 127.0.0.1:0
secure = 127.0.0.1:0
plain = redirect
[rtsp]
listen = 127.0.0.1:0
secure = 127.0.0.1:0
plain = loco
[tcp all]
listen = 127.0.0.1:0
format = framed
secure = 1
""" + CAMERAS)
check("a user", run(command, "users", own, "add", "anna", "--may", "administer", text=PASSWORD + "\n").returncode == 0)
token = re.search(r"only now: (\S+)", subprocess.run([command, "users", own, "add", "recorder", "--program"], capture_output=True, text=True).stdout)[1]
device = Device(own)
https, rtsps = device.port(r"https://127.0.0.1:(\d+)/yard"), device.port(r"rtsps://127.0.0.1:(\d+)/yard")
framed, rtsp = device.port(r"tls://127.0.0.1:(\d+) +framed"), device.port(r"rtsp://127.0.0.1:(\d+)/loco")
check("what is only redirected is not printed", not re.search(r"http://\d", device.told()) and not device.port(r"rtsp://127.0.0.1:(\d+)/yard"))

# The certificate: kept, with the names in it, and the one that is shown everywhere.
check("the key is its owner's", os.stat(at("keep/tls.key")).st_mode & 0o777 == 0o600)
check("what is printed is what is served", fingerprint_at(https) == device.fingerprint == fingerprint_at(rtsps))
shutil.copy(at("keep/tls.crt"), at("own.pem"))
text = run("openssl", "x509", "-in", at("own.pem"), "-noout", "-text").stdout
check("names and addresses", "DNS:localhost" in text and "IP Address:127.0.0.1" in text and "CN = Valley railway" in text, text)
alternatives = re.search(r"Subject Alternative Name:.*\n(.*)", text)[1].split(", ")
check("each once", len(alternatives) == len(set(map(str.strip, alternatives))), text)
check("it is well-formed", run("openssl", "verify", "-CAfile", at("own.pem"), at("own.pem")).returncode == 0)


def curl(address, *more):
    words = ["curl", "-s", "-o", os.devnull, "-m", "5", "-w", "%{http_code}", "--cacert", at("own.pem"), *more]
    return int(run(*words, address).stdout or 0)


base, bearer, anna = f"https://localhost:{https}", ["-H", f"Authorization: Bearer {token}"], ["-u", f"anna:{PASSWORD}"]
check("a client that trusts it", curl(base + "/yard.jpg", *bearer) == 200)
check("another name than it has", curl(f"https://elsewhere.example:{https}/yard.jpg", "--resolve", f"elsewhere.example:{https}:127.0.0.1", *bearer) == 0)
check("by its address", curl(f"https://127.0.0.1:{https}/yard.jpg", *bearer) == 200)
check("nobody", curl(base + "/yard.jpg") == 401)
check("basic", curl(base + "/yard.jpg", "--basic", *anna) == 200)
check("basic, wrong", curl(base + "/yard.jpg", "--basic", "-u", "anna:wrong-words-here") == 401)
check("digest", curl(base + "/yard.jpg", "--digest", *anna) == 200)
r = run("curl", "-s", "-i", "-m", "5", "--cacert", at("own.pem"), "--basic", *anna, "-X", "POST", base + "/sign-in")
check("the cookie stays with TLS", re.search(r"Set-Cookie: bambino=\S+; Path=/; HttpOnly; SameSite=Strict; Secure", r.stdout), r.stdout)
status = run("curl", "-s", "-m", "5", "--cacert", at("own.pem"), *bearer, base + "/status.json").stdout
check("the status", device.fingerprint in status and '"scheme":"https"' in status and '"scheme":"rtsps"' in status and '"scheme":"tls"' in status)
http = int(re.search(r'"scheme":"http","port":(\d+)', status)[1])

# What is left without encryption.
r = run("curl", "-s", "-i", "-m", "5", f"http://localhost:{http}/yard%20x.jpg?y=1")
check("redirected", "308 Permanent Redirect" in r.stdout and f"Location: https://localhost:{https}/yard%20x.jpg\r" in r.stdout.replace("\n", "\r"), r.stdout)
check("and there it is", curl(f"http://localhost:{http}/yard.jpg", "-L", *bearer, "--location-trusted") == 200)
check("a post, too", "308" in run("curl", "-s", "-i", "-m", "5", "-X", "POST", f"http://localhost:{http}/sign-in").stdout)
check("the page, too", "308" in run("curl", "-s", "-i", "-m", "5", f"http://localhost:{http}/").stdout)
check("not by a name of somebody else's", "421" in run("curl", "-s", "-i", "-m", "5", "-H", "Host: rebound.example", f"http://localhost:{http}/").stdout)


def ask(port, lines, secure=False):
    """One request, and the head of its answer."""
    s = socket.create_connection(("127.0.0.1", port), 5)
    if secure:
        context = ssl.create_default_context(cafile=at("own.pem"))
        s = context.wrap_socket(s, server_hostname="localhost")
    s.sendall(("\r\n".join(lines) + "\r\n\r\n").encode())
    s.settimeout(5)
    data = b""
    while b"\r\n\r\n" not in data:
        part = s.recv(4000)
        if not part:
            break
        data += part
    s.close()
    return data.decode(errors="replace")


r = ask(rtsp, [f"DESCRIBE rtsp://localhost:{rtsp}/yard RTSP/1.0", "CSeq: 1"])
check("RTSP is sent there, too", r.startswith("RTSP/1.0 301") and f"Location: rtsps://localhost:{rtsps}/yard\r\n" in r, r)
check("a feed that is left", "401" in ask(rtsp, [f"DESCRIBE rtsp://localhost:{rtsp}/loco RTSP/1.0", "CSeq: 1"])[:20])
r = ask(rtsps, [f"SETUP rtsps://localhost:{rtsps}/yard RTSP/1.0", "CSeq: 1", f"Authorization: Bearer {token}", "Transport: RTP/AVP;unicast;client_port=6000-6001"], True)
check("no datagrams without encryption", r.startswith("RTSP/1.0 461"), r)
r = ask(rtsps, [f"DESCRIBE rtsps://localhost:{rtsps}/yard RTSP/1.0", "CSeq: 1", f"Authorization: Bearer {token}"], True)
check("its base", f"Content-Base: rtsps://localhost:{rtsps}/yard/" in r, r)


# Players, with the right words, with wrong ones, and with none.
def ffmpeg(address, *how):
    return run("ffmpeg", "-v", "error", *how, "-i", address, "-frames:v", "5", "-f", "null", "-").returncode == 0


def gstreamer(name, word, feed):
    sign = [f"user-id={name}", f"user-pw={word}"] if name else []
    r = subprocess.run(["timeout", "-k", "2", "20", "gst-launch-1.0", "-q", "rtspsrc", f"location=rtsps://127.0.0.1:{rtsps}/{feed}", "tls-validation-flags=0", *sign,
                        "!", "rtpjpegdepay", "!", "identity", "eos-after=12", "!", "fdsink", "fd=1"], capture_output=True)
    heard.append(r.stderr.decode(errors="replace"))
    return r.stdout.count(b"\xff\xd8\xff") >= 10


def patient():
    wait_for(lambda: curl(base + "/yard.jpg", *bearer) == 200, 70)


for name, word, expected in (("anna", PASSWORD, True), ("anna", "wrong-words-here", False), (None, None, False)):
    sign = f"{name}:{word}@" if name else ""
    words = "right" if expected else "wrong" if name else "no"
    for what, feed in (("rtsps", "yard"), ("rtsps", "station"), ("https", "yard.mjpeg"), ("https", "station.ts")):
        address = f"{what}://{sign}127.0.0.1:{rtsps if what == 'rtsps' else https}/{feed}"
        check(f"ffmpeg, {what}, {feed}, {words} words", ffmpeg(address) == expected)
        patient()
    check(f"gstreamer, {words} words", gstreamer(name, word, "yard") == expected)
    patient()
check("ffmpeg that looks at the certificate", ffmpeg(f"https://localhost:{https}/yard.mjpeg", "-tls_verify", "1", "-ca_file", at("own.pem"),
                                                     "-headers", f"Authorization: Bearer {token}\r\n"))
check("ffmpeg that does not know it", not ffmpeg(f"https://localhost:{https}/yard.mjpeg", "-tls_verify", "1", "-headers", f"Authorization: Bearer {token}\r\n"))
check("a client that does not trust it", run("curl", "-s", "-m", "5", base + "/yard.jpg").returncode != 0)
check("it is told why", wait_for(lambda: "it does not trust the certificate" in device.told()))

# Sessions are resumed; old versions are refused.
run("openssl", "s_client", "-connect", f"127.0.0.1:{https}", "-sess_out", at("session"), text="")
r = run("openssl", "s_client", "-connect", f"127.0.0.1:{https}", "-sess_in", at("session"), text="")
check("a session is resumed", "Reused, TLSv1.2" in r.stdout, r.stdout[-600:])
for version in ("-tls1", "-tls1_1"):
    r = run("openssl", "s_client", "-connect", f"127.0.0.1:{https}", version, "-cipher", "ALL:@SECLEVEL=0", text="")
    check(f"{version} is refused", "BEGIN CERTIFICATE" not in r.stdout)
for suite, good in (("ECDHE-ECDSA-CHACHA20-POLY1305", True), ("ECDHE-ECDSA-AES256-GCM-SHA384", True), ("ECDHE-ECDSA-AES128-SHA", False)):
    r = run("openssl", "s_client", "-connect", f"127.0.0.1:{https}", "-tls1_2", "-cipher", suite, text="")
    check(suite, (f"Cipher is {suite}" in r.stdout) == good)
time.sleep(1.1)  # what fails is told five times in a row


# The framed protocol.
def message(kind, number, body=b""):
    head = bytearray(struct.pack(">4sBBBBII", b"\x8fbmb", 1, kind, 0, 0, number, len(body)))
    head[7] = 0x5A
    for i, b in enumerate(head):
        if i != 7:
            head[7] ^= b
    return bytes(head) + body


def read_message(s):
    def exactly(n):
        data = b""
        while len(data) < n:
            part = s.recv(n - len(data))
            if not part:
                raise EOFError
            data += part
        return data
    head = exactly(16)
    return head[5], exactly(struct.unpack(">I", head[12:])[0])


context = ssl.create_default_context(cafile=at("own.pem"))
with context.wrap_socket(socket.create_connection(("127.0.0.1", framed), 5), server_hostname="localhost") as s:
    s.settimeout(5)
    kinds, challenge, realm = [], b"", ""
    while 8 not in kinds:
        kind, body = read_message(s)
        kinds.append(kind)
        if kind == 8:
            challenge, realm = body[:32], body[33:33 + body[32]].decode()
    key = hashlib.sha256(f"anna:{realm}:{PASSWORD}".encode()).digest()
    s.sendall(message(72, 1, hmac.new(key, challenge + b"anna", hashlib.sha256).digest() + bytes([4]) + b"anna"))
    s.sendall(message(66, 2, struct.pack(">H", 0)))
    kinds = []
    while kinds.count(3) < 5 and len(kinds) < 100:
        kinds.append(read_message(s)[0])
    check("framed over TLS", kinds.count(3) == 5, kinds)

# Peers that do it wrong.
begun = time.monotonic()
check("a plain request at the encrypted port", curl(f"http://localhost:{https}/yard.jpg") == 0 and time.monotonic() - begun < 3)
check("it is told what happened", wait_for(lambda: "does not speak TLS" in device.told()))
idle = []
for i in range(60):
    s = socket.socket()
    s.bind(("127.0.0.9", 0))
    s.settimeout(2)
    try:
        s.connect(("127.0.0.1", https))
        s.sendall(b"\x16\x03\x01\x02\x00\x01\x00\x01\xfc"[: i % 10])  # the begin of a handshake
    except OSError:
        pass
    idle.append(s)
begun = time.monotonic()
check("sixty that begin and do not go on", curl(base + "/yard.jpg", *bearer) == 200 and time.monotonic() - begun < 2, time.monotonic() - begun)
for s in idle:
    s.close()
for i in range(40):  # garbage at every place of the handshake
    s = socket.create_connection(("127.0.0.1", https), 5)
    hello = bytes.fromhex("16030100") + bytes([50 + i]) + os.urandom(50 + i)
    s.sendall(hello if i % 2 else b"\x16\x03\x03" + os.urandom(400))
    s.close()
check("garbage", curl(base + "/yard.jpg", *bearer) == 200)

# The same certificate after a restart.
before = device.fingerprint
device.end()
device = Device(own)
check("it is kept", device.fingerprint == before)
device.end()

# The owner's certificate, replaced while somebody watches; and pushes.
make_certificate("club")
make_certificate("other")
receiver = at("receiver")
make_certificate("receiver")
pin = run("openssl", "x509", "-noout", "-sha256", "-fingerprint", "-in", receiver + ".crt").stdout.strip().split("=")[-1]


def listens(port):
    """Without a connection, which would be the receiver's first."""
    rows = [line.split() for name in ("tcp", "tcp6") for line in open(f"/proc/net/{name}")]
    return any(row[3] == "0A" and row[1].endswith(f":{port:04X}") for row in rows if len(row) > 3)


class Receiver:
    def __init__(self):
        while not self.start():
            pass  # somebody else has taken the port meanwhile

    def start(self):
        self.port = free_port()
        self.out = open(at(f"received-{self.port}"), "w+b")
        self.process = subprocess.Popen(["openssl", "s_server", "-accept", str(self.port), "-cert", receiver + ".crt", "-key", receiver + ".key", "-quiet"],
                                        stdin=subprocess.PIPE, stdout=self.out, stderr=subprocess.DEVNULL)
        wait_for(lambda: self.process.poll() is not None or listens(self.port))
        return self.process.poll() is None

    def received(self):
        with open(self.out.name, "rb") as f:
            return f.read()


right, wrong, anybody = Receiver(), Receiver(), Receiver()
club = write("club.ini", f"""[device]
name = Valley railway
[http]
secure = 127.0.0.1:0
[tls]
certificate = club.crt
key = club.key
[push right]
feed = yard
to = tls://127.0.0.1:{right.port}
fingerprint = {pin}
[push wrong]
feed = yard
to = tls://127.0.0.1:{wrong.port}
fingerprint = {pin[:-2] + ("00" if pin[-2:] != "00" else "01")}
[push anybody]
feed = yard
to = tls://127.0.0.1:{anybody.port}
fingerprint = any
""" + CAMERAS)
device = Device(club)
https = device.port(r"https://127.0.0.1:(\d+)/yard")
check("the owner's certificate", fingerprint_at(https) == device.fingerprint)
check("a push", wait_for(lambda: right.received().count(b"\xff\xd8\xff") > 10))
check("a push to anybody", wait_for(lambda: anybody.received().count(b"\xff\xd8\xff") > 10))
check("not to another", wait_for(lambda: "another fingerprint" in device.told()) and wrong.received() == b"", device.told()[-500:])
viewer = subprocess.Popen(["curl", "-sk", "-m", "30", "-o", at("watched"), f"https://127.0.0.1:{https}/yard.mjpeg"])
wait_for(lambda: os.path.exists(at("watched")) and os.path.getsize(at("watched")) > 30000)
os.replace(at("other.crt"), at("club.crt"))
check("a certificate alone is not taken", wait_for(lambda: "the former one is still used" in device.told()), device.told()[-300:])
check("the former one", fingerprint_at(https) == device.fingerprint)
os.replace(at("other.key"), at("club.key"))
check("with its key it is", wait_for(lambda: "The certificate was replaced" in device.told()))
check("the new one", fingerprint_at(https) != device.fingerprint and fingerprint_at(https) in device.told())
size = os.path.getsize(at("watched"))
check("who watches goes on", wait_for(lambda: os.path.getsize(at("watched")) > size + 30000) and viewer.poll() is None)
write("club.crt", "-----BEGIN CERTIFICATE-----\nbroken\n")
check("a broken one is told", wait_for(lambda: "is no PEM that can be read" in device.told()))
viewer.terminate()
viewer.wait()
device.end()
for r in (right, wrong, anybody):
    r.process.terminate()
    r.process.wait()
    r.process.stdin.close()
    r.out.close()

r = run(command, "send", "yard", f"tls://127.0.0.1:{right.port}", "--config", club, "--fingerprint", "12")
check("send says what is missing", r.returncode == 2 or "64 hexadecimal digits" in r.stderr, r.stderr)
check("a unit with them", "LoadCredential=bambino-key:" in run(command, "service", "write", club).stdout)

# What is refused at once, with what to do.
for words, change in (("go together", ("key = club.key\n", "")), ("cannot be read", ("club.key", "missing.key")),
                      ("64 hexadecimal digits", (pin, "AB:CD")), ("is no PEM", ("club.key", "club.ini"))):
    make_certificate("club")
    os.chmod(club, 0o600)
    with open(club) as f:
        name = write("bad.ini", f.read().replace(*change, 1))
    r = run(command, "run", name, seconds=10)
    check(words, r.returncode != 0 and words in r.stderr, r.stderr)
run("openssl", "req", "-x509", "-nodes", "-newkey", "rsa:3072", "-subj", "/CN=x", "-keyout", at("club.key"), "-out", at("club.crt"))
r = run(command, "run", club, seconds=10)
check("a key that is too large", r.returncode != 0 and "2048 bits" in r.stderr, r.stderr)
os.chmod(at("club.key"), 0o644)
check("a key for all to read", "chmod" in run(command, "run", club, seconds=10).stderr)
check("plain without secure", "add secure" in run(command, "run", write("bad.ini", "[http]\nlisten = :0\nplain = off\n" + CAMERAS), seconds=10).stderr)

# A handshake that trickles in ends by the time that a request may take, however long a connection may be idle.
port = free_port()
trickled = write("trickle.ini", f"[device]\nrequest-ms = 700\nidle-ms = 600000\n[http]\nsecure = 127.0.0.1:{port}\n" + CAMERAS)
slow = subprocess.Popen([command, "run", trickled], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)


def connected():
    try:
        return socket.create_connection(("127.0.0.1", port), 5)
    except OSError:
        return None


s, closed = wait_for(connected, 20), False
for byte in b"\x16\x03\x01\x02\x00\x01\x00\x01\xfc\x03\x03" + bytes(200):
    try:
        s.sendall(bytes([byte]))
        s.settimeout(0.1)
        closed = s.recv(1) == b""
    except socket.timeout:
        continue
    except OSError:
        closed = True
    if closed:
        break
check("a handshake that trickles in is ended", closed)
slow.send_signal(signal.SIGTERM)
slow.wait(20)

everything = "".join(heard)
check("no secret in any output", PASSWORD not in everything and token not in everything and "PRIVATE KEY" not in everything)
subprocess.run(["rm", "-r", folder])
check.end()
