#!/usr/bin/env python3
"""A machine's address changes while it serves over HTTPS: the certificate follows, and nobody is cut off.
addresses.py PATH-OF-BAMBINO    As root, in a network namespace of its own."""
import os, ssl, subprocess, sys, urllib.request
from running import ANY_CERTIFICATE, Checks, Device, go_apart, wait_for

go_apart()
check = Checks()


def ip(words):
    subprocess.run(["ip", *words.split()], check=True)


for words in ("link set lo up", "link add cable type veth peer name end", "addr add 192.0.2.1/24 dev cable", "link set cable up", "link set end up"):
    ip(words)
device = Device(os.path.abspath(sys.argv[1]), """[device]
state = keep
[http]
secure = 0.0.0.0:8443
plain = off
[camera yard]
view = yard
[feed yard]
size = 160x120
rate = 15
codec = jpeg
""").start()


def served(*asked):
    """What openssl says of the certificate that is served."""
    pem = ssl.get_server_certificate(("127.0.0.1", 8443), timeout=20)
    return subprocess.run(["openssl", "x509", "-noout", *asked], input=pem, capture_output=True, text=True).stdout


check("it names its address", "IP Address:192.0.2.1," in served("-ext", "subjectAltName").replace("\n", ","), device.told())
key, first = served("-pubkey"), served("-fingerprint", "-sha256").strip().split("=")[1]
check("its fingerprint is printed", first in device.told(), device.told())
stream = urllib.request.urlopen("https://127.0.0.1:8443/yard.mjpeg", timeout=20, context=ANY_CERTIFICATE)
check("somebody watches", stream.status == 200 and len(stream.read(20000)) == 20000)

ip("addr add 198.51.100.7/24 dev cable")
check("another address is told", wait_for(lambda: "This machine has another address." in device.told()), device.told())
second = served("-fingerprint", "-sha256").strip().split("=")[1]
check("the certificate names it", "IP Address:198.51.100.7," in served("-ext", "subjectAltName").replace("\n", ","), served("-ext", "subjectAltName"))
check("its fingerprint is printed, too", second != first and wait_for(lambda: second in device.told()), device.told())
check("the key stays", served("-pubkey") == key)
check("who watches goes on", len(stream.read(200000)) == 200000)
with open(device.path("keep/tls.crt")) as f:
    check("it is kept as PEM", f.readline() == "-----BEGIN CERTIFICATE-----\n")

ip("addr del 198.51.100.7/24 dev cable")
frames = stream.read(200000)
check("an address that is gone is no reason for another one", served("-fingerprint", "-sha256").strip().split("=")[1] == second and len(frames) == 200000)
check("it ends as asked", device.stop() == 0)
device.start()
check("after a new start it is the same", served("-fingerprint", "-sha256").strip().split("=")[1] == second, device.told())
device.stop()
check.end()
