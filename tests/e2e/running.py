"""What tests of the built command share: checks that are counted, and a device that runs."""
import hashlib, json, os, re, shutil, signal, ssl, subprocess, sys, tempfile, time, urllib.error, urllib.request

ANY_CERTIFICATE = ssl._create_unverified_context()


class Checks:
    def __init__(self):
        self.passed, self.failures = 0, []

    def __call__(self, what, ok, why=""):
        self.passed += bool(ok)
        if not ok:
            self.failures.append(what)
            print(f"FAILED: {what} {why}", flush=True)

    def end(self):
        print(f"{self.passed} passed, {len(self.failures)} failed")
        sys.exit(1 if self.failures else 0)


def wait_for(condition, seconds=20):
    """The bound is for a machine that is held up; what is waited for comes at once elsewhere."""
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        value = condition()
        if value:
            return value
        time.sleep(0.05)
    return condition()


def go_apart():
    """Runs this test once more, in a network namespace of its own; skips it where none can be had."""
    if os.environ.get("BAMBINO_APART") is None:
        if os.geteuid() != 0 or shutil.which("ip") is None or subprocess.run(["unshare", "--net", "true"], capture_output=True).returncode != 0:
            print("no network namespace can be had")
            sys.exit(77)
        os.execvpe("unshare", ["unshare", "--net", sys.executable, *sys.argv], {**os.environ, "BAMBINO_APART": "1"})


class Device:
    """`bambino run` with a configuration in a folder of its own, or in one that is there."""

    def __init__(self, command, config, folder=None, options=()):
        self.command, self.options = command, options
        self.folder = folder or tempfile.mkdtemp(prefix="bambino-test-")
        self.config = os.path.join(self.folder, "device.ini")
        if config is not None:
            with open(self.config, "w") as f:
                f.write(config)
        self.process = self.log = None

    def path(self, name):
        return os.path.join(self.folder, name)

    def start(self, wanted="Ctrl-C"):
        self.log = open(self.path("log"), "w+")
        self.process = subprocess.Popen([self.command, "run", self.config, *self.options], stdout=self.log, stderr=subprocess.STDOUT,
                                        cwd=self.folder)
        wait_for(lambda: wanted in self.told() or self.process.poll() is not None)
        found = re.search(r"browser: *(http://\S+?)/\s", self.told())
        self.http = found[1] if found else None
        return self

    def told(self):
        with open(self.log.name, errors="replace") as f:
            return f.read()

    def stop(self):
        if self.process.poll() is None:
            self.process.send_signal(signal.SIGTERM)
        try:
            return self.process.wait(20)
        except subprocess.TimeoutExpired:
            self.process.kill()
            return self.process.wait()

    def users(self, *words, text=None):
        return subprocess.run([self.command, "users", self.config, *words], input=text, capture_output=True, text=True, cwd=self.folder)

    def ask(self, path, data=None, method=None, headers=()):
        """(status, body) of an answer over HTTP; (0, …): there was none."""
        request = urllib.request.Request(self.http + path, data, dict(headers), method=method)
        try:
            with urllib.request.urlopen(request, timeout=20, context=ANY_CERTIFICATE) as answer:
                return answer.status, answer.read()
        except urllib.error.HTTPError as answer:
            return answer.code, answer.read()
        except OSError as why:
            return 0, str(why).encode()

    def sign_in(self, name, word):
        """The page's cookie, as a header, from its digest (RFC 7616 3.4.1); None: refused."""
        digest = lambda text: hashlib.sha256(text.encode()).hexdigest()
        me = json.loads(self.ask("/who.json")[1])
        a1, a2 = digest(f"{name}:{me['realm']}:{word}"), digest("POST:/sign-in")
        response = digest(f"{a1}:{me['nonce']}:00000001:c:auth:{a2}")
        says = (f'Digest username="{name}", realm="{me["realm"]}", nonce="{me["nonce"]}", uri="/sign-in", algorithm=SHA-256, '
                f'qop=auth, nc=00000001, cnonce="c", response="{response}"')
        request = urllib.request.Request(self.http + "/sign-in", b"", {"Authorization": says}, method="POST")
        try:
            with urllib.request.urlopen(request, timeout=20, context=ANY_CERTIFICATE) as answer:
                return {"Cookie": answer.headers["Set-Cookie"].split(";")[0]}
        except urllib.error.HTTPError:
            return None

    def curl(self, path, *more):
        r = subprocess.run(["curl", "-s", "-o", os.devnull, "-m", "20", "-w", "%{http_code}", *more, self.http + path], capture_output=True, text=True)
        return int(r.stdout or 0)
