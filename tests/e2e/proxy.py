#!/usr/bin/env python3
"""Behind a reverse proxy: nginx ends TLS, adds a prefix and calls the device by a name of its own. proxy.py PATH-OF-BAMBINO"""
import json, os, re, shutil, subprocess, sys, tempfile

from running import Checks, Device, go_apart, wait_for

if shutil.which("nginx") is None:
    print("nginx is not there")
    sys.exit(77)
go_apart()
subprocess.run(["ip", "link", "set", "lo", "up"], check=True)
check = Checks()
PASSWORD = "MARK-the-red-signal"
device = Device(os.path.abspath(sys.argv[1]), """[device]
name = Valley railway
names = cams.railway.example
state = keep
[http]
listen = 127.0.0.1:8080
[camera yard]
view = yard
[feed yard]
size = 320x240
rate = 15
""")
os.mkdir(device.path("keep"))
device.users("add", "anna", "--may", "administer", text=PASSWORD + "\n")
device.start()

# As docs/security.md has it, with addresses of its own.
with open(os.path.join(os.path.dirname(os.path.abspath(__file__)), "../../docs/security.md")) as f:
    block = re.search(r"```nginx\n(.*?)```", f.read(), re.S)[1]
folder = tempfile.mkdtemp(prefix="bambino-proxy-")
at = lambda name: os.path.join(folder, name)
subprocess.run(["openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-subj", "/CN=cams.railway.example", "-keyout", at("key.pem"),
                "-out", at("certificate.pem")], check=True, capture_output=True)
block = block.replace("/etc/nginx/certificate.pem", at("certificate.pem")).replace("/etc/nginx/key.pem", at("key.pem"))
block = block.replace("192.0.2.7:8080", "127.0.0.1:8080")
with open(at("nginx.conf"), "w") as f:
    f.write(f"""daemon off; worker_processes 1; user root; pid {at("pid")}; error_log {at("errors")};
events {{ }}
http {{ access_log off; client_body_temp_path {at("body")}; proxy_temp_path {at("proxy")}; fastcgi_temp_path {at("f")};
uwsgi_temp_path {at("u")}; scgi_temp_path {at("s")};
{block} }}
""")
nginx = subprocess.Popen(["nginx", "-p", folder, "-e", at("errors"), "-c", at("nginx.conf")], stderr=subprocess.PIPE)


def curl(path, *more, name="cams.railway.example"):
    """(status, head and body) as a client of the proxy gets them."""
    r = subprocess.run(["curl", "-k", "-s", "-i", "--compressed", "-m", "20", "--resolve", f"{name}:443:127.0.0.1", *more, f"https://{name}{path}"],
                       capture_output=True)
    found = re.findall(rb"^HTTP/\S+ (\d+)", r.stdout, re.M)
    return int(found[-1]) if found else 0, r.stdout


try:
    check("the proxy answers", wait_for(lambda: curl("/cam/")[0] == 200), (open(at("errors")).read(), nginx.poll()))
    check("the page", b"<title>" in curl("/cam/")[1], curl("/cam/")[1][:600])
    check("what the page needs, where it is", all(curl(f"/cam/{name}")[0] == 200 for name in ("page.js", "page.css", "who.json")))
    check("a snapshot without a password", curl("/cam/yard.jpg")[0] == 401)
    for word, wanted in ((PASSWORD, 200), ("not-this-one", 401)):
        status, text = curl("/cam/yard.jpg", "--digest", "-u", f"anna:{word}")
        check(f"a snapshot by Digest through a prefix: {wanted}", status == wanted, text[:400])
    r = subprocess.run(["curl", "-k", "-s", "-m", "4", "--digest", "-u", f"anna:{PASSWORD}", "--resolve", "cams.railway.example:443:127.0.0.1",
                        "-o", at("stream"), "https://cams.railway.example/cam/yard.mjpeg"], capture_output=True)
    with open(at("stream"), "rb") as f:
        check("a live stream, frame by frame", f.read().count(b"\xff\xd8\xff") >= 2, r)
    # A page that the proxy shows is the device's own: it may change something. Others may not.
    patch = ("--digest", "-u", f"anna:{PASSWORD}", "-X", "PATCH", "-H", "Content-Type: application/merge-patch+json", "-d",
             json.dumps({"feed": {"yard": {"quality": 60}}}))
    status, text = curl("/cam/settings", *patch, "-H", "Origin: https://cams.railway.example")
    check("a change from the proxied page", status in (200, 202), text[-600:])
    check("a change from another page", curl("/cam/settings", *patch, "-H", "Origin: https://other.example")[0] == 403)
    # A name that the device does not know: the answer says what to do, and so does the log.
    status, text = curl("/cam/", name="other.railway.example")
    check("an unknown name", status == 421 and b"names in [device]" in text, text)
    check("an unknown name, in the log", "other.railway.example" in device.told() and "names" in device.told())
finally:
    nginx.terminate()
    nginx.wait(20)
    check("the device ends well", device.stop() == 0)
    shutil.rmtree(folder)
    shutil.rmtree(device.folder)
check.end()
