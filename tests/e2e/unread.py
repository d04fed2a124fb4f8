"""A device whose standard error and output are pipes that nobody reads, or whose reader has gone. unread.py BAMBINO"""
import os, re, socket, subprocess, sys, time

ARGS = [sys.argv[1], "demo", "--http", "127.0.0.1:0", "--rtsp", "127.0.0.1:0", "--tcp", "127.0.0.1:0"]


def frames(s, seconds):
    """How many frames of a stream come in so long."""
    s.settimeout(0.5)
    end, data = time.time() + seconds, b""
    while time.time() < end:
        try:
            data += s.recv(1 << 16)
        except TimeoutError:
            pass
    return data.count(b"Frame-Number:")


def ask(port, path):
    with socket.create_connection(("127.0.0.1", port), 5) as s:
        s.sendall(f"GET {path} HTTP/1.0\r\n\r\n".encode())
        while s.recv(4096):
            pass


err_read, err_write = os.pipe()
child = subprocess.Popen(ARGS, stdout=subprocess.PIPE, stderr=err_write)
text = b""
while b"Ctrl-C" not in text:
    text += os.read(child.stdout.fileno(), 4096)
port = int(re.search(rb"http://127.0.0.1:(\d+)/yard.mjpeg", text)[1])
os.set_blocking(err_read, True)
viewer = socket.create_connection(("127.0.0.1", port))
viewer.sendall(b"GET /yard.mjpeg HTTP/1.1\r\nHost: localhost\r\n\r\n")
before = frames(viewer, 3)
for n in range(1000):
    ask(port, f"/no-such-feed-{n:080}.jpg")
    ask(port, "/attic")
after = frames(viewer, 3)
viewer.close()
os.set_blocking(err_read, False)
log = b""
try:
    while chunk := os.read(err_read, 1 << 16):
        log += chunk
except BlockingIOError:
    pass
print(f"{before} and {after} frames in 3 s before and behind 2000 wrong addresses, {len(log)} bytes of log")
good = after >= before * 0.6 and before > 20 and len(log) < 20000
print("frames went on" if good else "FAILED: frames stood still, or the log is without bound")
child.terminate()
good = child.wait(10) == 0 and good
os.close(err_read)

# Both readers go away.
read, write = os.pipe()
child = subprocess.Popen(ARGS + ["--for", "3"], stdout=write, stderr=write)
os.close(write)
text = b""
while b"Ctrl-C" not in text:
    text += os.read(read, 4096)
port = int(re.search(rb"http://127.0.0.1:(\d+)/yard.mjpeg", text)[1])
os.close(read)
for n in range(20):
    ask(port, "/attic")
status = child.wait(15)
print("a closed pipe ended nothing" if status == 0 else f"FAILED: it ended with {status}")
sys.exit(0 if good and status == 0 else 1)
