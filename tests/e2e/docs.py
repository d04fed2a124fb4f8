#!/usr/bin/env python3
"""Every configuration that the documentation shows is read and judged by the command, as it stands there; what needs a camera, a key or
another machine may lack that, and nothing else. docs.py PATH-OF-BAMBINO"""
import glob, os, re, subprocess, sys, tempfile
from running import Checks

command, check = os.path.abspath(sys.argv[1]), Checks()
root = os.path.join(os.path.dirname(os.path.abspath(__file__)), "..", "..")
# What a machine without this equipment says, and rightly.
LACKS = r"is missing: |is not attached|no camera matches|cannot be read|is not here|was built without|has no address|no such folder"
folder = tempfile.mkdtemp(prefix="bambino-docs-")


def names_in(text, key):
    return [n for line in re.findall(rf"^{key}\s*=\s*([^#;\n]*)", text, re.M) for n in re.split(r"[ ,]+", line.strip()) if n]


def completed(text):
    """A piece of a file with what it refers to."""
    have = set(re.findall(r"^\[feed ([a-z0-9_-]+)\]", text, re.M))
    wanted = set(names_in(text, "feed")) | set(names_in(text, "preview")) | set(names_in(text, "step"))
    wanted |= {n for n in names_in(text, "plain") if n not in ("all", "redirect", "off")}
    wanted |= {n for n in re.findall(r"^\[(?:tcp|push) ([a-z0-9_-]+)\]", text, re.M) if n in ("yard", "station", "loco")}
    cameras = set(re.findall(r"^\[camera ([a-z0-9_-]+)\]", text, re.M))
    if not have and not wanted:
        wanted = {"yard"}
    for name in sorted(wanted - have):
        h264 = re.search(rf"^\[push [a-z0-9_-]+\][^\[]*^feed\s*=\s*{name}\b", text, re.M) is not None and "format = ts" in text
        if name not in cameras:
            text += f"\n[camera {name}]\nsource = drawn\nview = yard\n"
        text += f"\n[feed {name}]\nsize = 640x480\nrate = 15\n" + ("codec = h264\n" if h264 else "")
    for name in sorted(have):
        camera = re.search(rf"^\[feed {name}\]([^\[]*)", text, re.M)[1]
        camera = (re.findall(r"^camera\s*=\s*(\S+)", camera, re.M) or [name])[0]
        if camera not in cameras:
            cameras.add(camera)
            text += f"\n[camera {camera}]\nsource = drawn\nview = yard\n"
    if not re.search(r"^\[(http|rtsp|tcp|push)", text, re.M):
        text += "\n[http]\nlisten = 127.0.0.1:0\n"
    return text


count = 0
for path in sorted(glob.glob(os.path.join(root, "docs", "*.md")) + [os.path.join(root, "README.md")]):
    with open(path, encoding="utf-8") as f:
        page = f.read()
    for number, block in enumerate(re.findall(r"^```ini\n(.*?)^```", page, re.M | re.S)):
        if "…" in block:  # a piece of a value, not a whole one
            block = re.sub(r"^.*….*\n", "", block, flags=re.M)
        name = f"{os.path.basename(path)}, block {number + 1}"
        if not re.search(r"^\[", block, re.M):
            continue
        config = os.path.join(folder, "c.ini")
        with open(config, "w") as f:
            f.write(completed(block))
        r = subprocess.run([command, "run", "--check", config], capture_output=True, text=True, cwd=folder, timeout=120)
        said = [line for line in r.stderr.splitlines() if not re.search(LACKS, line) and "are expected" not in line and "would take" not in line]
        check(f"{name} is read", r.returncode == 0 or (not said and r.stderr), f"\n{completed(block)}\n{r.stderr}")
        count += 1
check("there are such blocks", count > 10, count)
check.end()
