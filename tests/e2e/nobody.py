#!/usr/bin/env python3
"""Pushes that reach nobody are told: a host that is not there, a port at which nobody listens, and which figure says so.
nobody.py PATH-OF-BAMBINO    As root, in a network namespace of its own."""
import json, os, subprocess, sys
from running import Checks, Device, go_apart, wait_for

go_apart()
command, check = os.path.abspath(sys.argv[1]), Checks()
for words in ("link set lo up", "link add cable type veth peer name end", "addr add 192.0.2.1/24 dev cable", "link set cable up", "link set end up"):
    subprocess.run(["ip", *words.split()], check=True)
CONFIG = """[device]
log = info
[http]
listen = 127.0.0.1:0
[camera yard]
view = yard
[feed yard]
size = 160x120
rate = 15
[push nobody]
feed = yard
to = udp://192.0.2.186:22888
[push closed]
feed = yard
to = udp://127.0.0.1:9
[push silent]
feed = yard
to = udp://192.0.2.255:22888
[push tcp]
feed = yard
to = tcp://127.0.0.1:9
"""


def pushes(device):
    """As configured, one behind the other; who they go to is for administrators."""
    return json.loads(device.ask("/status.json")[1])["pushes"]


device = Device(command, CONFIG).start()
nobody, closed, silent = 0, 1, 2
check("a host that is not there is told", wait_for(lambda: "to 192.0.2.186:22888: no host answers at that address" in device.told(), 60), device.told()[-800:])
check("… and stands in the figures", wait_for(lambda: pushes(device)[nobody]["error"] == "no-route"), pushes(device))
check("a port at which nobody listens is told", wait_for(lambda: "to 127.0.0.1:9: nobody listens there" in device.told()), device.told()[-800:])
check("… and stands in the figures", wait_for(lambda: pushes(device)[closed]["error"] == "refused"), pushes(device))
check("of what nobody answers to, nothing is confirmed", pushes(device)[silent]["error"] is None and not pushes(device)[silent]["confirmed"], pushes(device))
check("frames go on", wait_for(lambda: pushes(device)[nobody]["sent"] > 100, 60), pushes(device))
text = device.told()
check("each is told once, not again and again", text.count("no host answers") == 1 and text.count("192.0.2.186:22888: ") == 1, text[-800:])
check("nothing says meanwhile that they refuse no more", "refuses no more" not in text, text[-800:])
check("a connection that cannot be made is told once, however often it is tried", text.count("to 127.0.0.1:9: nobody listens there") == 2, text)
# The address is taken: from then on it arrives.
subprocess.run(["ip", "netns", "add", f"bambino-{os.getpid()}"], check=True)
try:
    name = f"bambino-{os.getpid()}"
    subprocess.run(["ip", "link", "set", "end", "netns", name], check=True)
    for words in ("link set end up", "addr add 192.0.2.186/24 dev end"):
        subprocess.run(["ip", "netns", "exec", name, "ip", *words.split()], check=True)
    hear = subprocess.run(["ip", "netns", "exec", name, sys.executable, "-c",
                           "import socket\ns = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)\ns.bind(('', 22888))\ns.settimeout(60)\nprint(len(s.recv(65536)))"],
                          capture_output=True, text=True)
    check("a receiver that comes gets it", hear.returncode == 0 and int(hear.stdout or 0) > 0, hear)
finally:
    subprocess.run(["ip", "netns", "del", f"bambino-{os.getpid()}"])
device.stop()
# The command that only sends says it, too, and fails.
r = subprocess.run([command, "send", "yard", "udp://192.0.2.187:22888", "--config", device.config, "--for", "8"], capture_output=True, text=True)
check("send fails, with the reason", r.returncode == 1 and "no host answers" in r.stderr, r)
check.end()
