"""handed_out.py PORT FEED: when each picture of a feed was taken (Unix time in µs, a line each), as the device hands them
out over the framed protocol; a line "skipped N" for those that were not for this reader. Until its input ends."""
import os
import struct
import sys
import threading

sys.path.insert(0, os.path.join(os.path.dirname(__file__), "..", "..", "examples"))
sys.dont_write_bytecode = True
import framed_viewer as framed  # noqa: E402

threading.Thread(target=lambda: (sys.stdin.read(), os._exit(0)), daemon=True).start()
viewer = framed.Viewer("127.0.0.1", int(sys.argv[1]))
viewer.watch(sys.argv[2])
last = None
while True:
    kind, _, number, body = viewer.stream.next()
    if kind != framed.FRAME or struct.unpack_from(">HBB", body)[2] != 0:
        continue
    if last is not None and number > last + 1:
        print("skipped", number - last - 1, flush=True)
    last = number
    print(struct.unpack_from(">Q", body, 12)[0], flush=True)
