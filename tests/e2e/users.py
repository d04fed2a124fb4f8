#!/usr/bin/env python3
"""The file of users: what becomes of it opens nothing. users.py PATH-OF-BAMBINO"""
import fcntl, json, os, shutil, subprocess, sys, time
from running import Checks, Device, wait_for

command, check = os.path.abspath(sys.argv[1]), Checks()
FEEDS = """[http]
listen = 127.0.0.1:0
[camera yard]
view = yard
[feed yard]
size = 160x120
fps = 5
""".replace("fps", "rate")
STATE = "[device]\nstate = keep\n" + FEEDS
NAMED = "[device]\nusers = people\n" + FEEDS
ANNA, WORD = ("--digest", "-u", "anna:the red signal"), "the red signal\n"


def who(device):
    return json.loads(device.ask("/who.json")[1])


def closed(device):
    return device.curl("/yard.jpg") in (401, 403)


def unreadable(device):
    return device.told().count("users: the file of users cannot be read")


# While it runs, whatever becomes of the file: what was read last stays.
device = Device(command, STATE)
os.mkdir(device.path("keep"))
check("added", device.users("add", "anna", "--may", "administer", text=WORD).returncode == 0)
users, aside = device.path("keep/users"), device.path("aside")
shutil.copy2(users, aside)
device.start()
cookie = device.sign_in("anna", WORD.strip())


def her_page():
    return device.ask("/who.json", headers=cookie)[1].decode()


check("she signs in at the page", cookie)
check("she may, nobody else", device.curl("/yard.jpg", *ANNA) == 200 and closed(device))


def truncate(size):
    def act():
        with open(users, "r+") as f:
            f.truncate(size)
    return act


def renamed():
    os.rename(device.path("keep"), device.path("kept"))


whole = os.stat(users).st_size
for what, break_it, mend in (
        ("removed", lambda: os.remove(users), None),
        ("empty", truncate(0), None),
        ("cut off behind its first lines", truncate(150), None),
        ("cut off in the last line", truncate(whole - 10), None),
        ("cut off before the last line", truncate(whole - 40), None),
        ("for all to read", lambda: os.chmod(users, 0o644), None),
        ("a folder", lambda: (os.remove(users), os.mkdir(users)), lambda: os.rmdir(users)),
        ("in a folder that has another name", renamed, lambda: os.rename(device.path("kept"), device.path("keep")))):
    before = unreadable(device)
    break_it()
    check(f"{what}: it is told", wait_for(lambda: unreadable(device) > before), device.told()[-600:])
    check(f"{what}: she still may, nobody else", device.curl("/yard.jpg", *ANNA) == 200 and closed(device))
    check(f"{what}: her page says so, and no other", "users" not in who(device) and '"users":"stale"' in her_page(), her_page())
    if mend:
        mend()
    seen = device.told().count("may sign in")
    shutil.copy2(aside, users)
    os.utime(users)
    check(f"{what}: brought back", wait_for(lambda: device.told().count("may sign in") > seen), device.told()[-600:])
events = subprocess.run(["curl", "-s", "-m", "2", "-H", "Cookie: " + cookie["Cookie"], device.http + "/events"], capture_output=True, text=True).stdout
check("an event tells it", "users-unreadable" in events, events[-500:])
check("it stops", device.stop() == 0)

# At the start: nobody gets in, programs of the device itself neither, until the file is back.
for what, config, break_it in (("removed", STATE, lambda d: os.remove(d.path("keep/users"))),
                               ("empty", STATE, lambda d: open(d.path("keep/users"), "w").close()),
                               ("damaged", STATE, lambda d: open(d.path("keep/users"), "a").write("nonsense\n")),
                               ("named and not there", NAMED, lambda d: os.remove(d.path("people"))),
                               ("named in a folder that is not there", NAMED.replace("people", "nowhere/people"), lambda d: None)):
    d = Device(command, config)
    os.mkdir(d.path("keep"))
    file = d.path("keep/users" if config == STATE else "people")
    d.users("add", "anna", text=WORD)
    if os.path.exists(file):
        shutil.copy2(file, d.path("aside"))
    break_it(d)
    d.start()
    check(f"at the start, {what}: nobody gets in", closed(d) and who(d)["users"] == "locked" and d.curl("/yard.jpg", *ANNA) != 200, who(d))
    check(f"at the start, {what}: it is told", "Nobody gets in" in d.told() and "nobody gets in, since" in d.told(), d.told())
    check(f"at the start, {what}: settings are closed to this machine, too", d.curl("/api/settings") in (401, 403, 404))
    if os.path.exists(d.path("aside")):
        shutil.copy2(d.path("aside"), file)
        check(f"at the start, {what}: brought back", wait_for(lambda: d.curl("/yard.jpg", *ANNA) == 200), d.told())
    d.stop()

# Without the file there is a way in for who has the device in hands: users are added anew.
d = Device(command, STATE)
os.mkdir(d.path("keep"))
d.users("add", "anna", text=WORD)
os.remove(d.path("keep/users"))
check("changing somebody who is gone", d.users("change", "anna", "--password", text=WORD).returncode == 1)
r = d.users("add", "anna", text=WORD)
check("adding begins anew", r.returncode == 0 and "begun anew" in r.stderr, r)
r = d.users("remove", "anna")
check("removing the last one opens nothing, and says what would", r.returncode == 0 and "anybody = watch" in r.stdout, r)
check("the list says it, too", "nobody may watch" in d.users().stdout, d.users())
d.start()
check("nobody gets in", closed(d) and "nobody is among the users" in d.told(), d.told())
d.stop()

# Only an explicit statement opens it; and where there never were users, it is open as before.
with open(d.config, "w") as f:
    f.write(STATE.replace("[device]\n", "[device]\nanybody = watch\n"))
d.start()
check("said to be open, it is", d.curl("/yard.jpg") == 200)
d.stop()
d = Device(command, STATE).start()
check("never a user: everybody may watch", d.curl("/yard.jpg") == 200 and "users" not in who(d))
d.stop()

# A state folder that cannot be used is told, and serving goes on.
d = Device(command, STATE.replace("state = keep", "state = device.ini/keep"))
d.start()
check("it serves without its folder", d.curl("/yard.jpg") == 200 and "nothing can be stored there" in d.told(), d.told())
d.stop()

# What killed writers left goes at the next start; what somebody is writing stays.
d = Device(command, STATE)
os.mkdir(d.path("keep"))
for name in ("settings.abcdef.part", "links.ghijkl.part", "notes.part"):
    open(d.path("keep/" + name), "w").close()
    os.utime(d.path("keep/" + name), (time.time() - 5, time.time() - 5))
writing = open(d.path("keep/links.ghijkl.part"), "r+")
fcntl.flock(writing, fcntl.LOCK_EX)
d.start()
check("what a killed writer left is gone", sorted(os.listdir(d.path("keep"))) == ["links.ghijkl.part", "notes.part"], os.listdir(d.path("keep")))
d.stop()
check.end()
