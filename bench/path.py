"""A path between two network namespaces, made in user space: rate, queue, delay, loss, order, outages, from a seed.

    with Path("ns-a", "192.0.2.1", "ns-b", "192.0.2.2") as path:
        path.set(mbit=3, delay_ms=20, loss=0.01)

Each namespace gets a tun device of that address; a process between the two passes packets on, as the last set() says. Kernels
without a network emulator have this everywhere."""
import ctypes, fcntl, heapq, multiprocessing, os, random, select, struct, subprocess, time

libc = ctypes.CDLL(None, use_errno=True)


def enter(name):
    """name "": the namespace that the process began in."""
    fd = os.open(f"/run/netns/{name}" if name else "/proc/self/ns/net", os.O_RDONLY)
    if libc.setns(fd, 0x40000000) != 0:
        raise OSError(ctypes.get_errno(), f"namespace {name}")
    os.close(fd)


def tun(name):
    fd = os.open("/dev/net/tun", os.O_RDWR | os.O_NONBLOCK)
    fcntl.ioctl(fd, 0x400454CA, struct.pack("16sH22x", name.encode(), 0x1001))  # TUNSETIFF: IFF_TUN | IFF_NO_PI
    return fd


class Direction:
    def __init__(self, source, sink, dice):
        self.source, self.sink, self.dice, self.free, self.way, self.count = source, sink, dice, 0.0, [], 0
        self.passed = self.lost = self.full = self.seen = self.swapped = 0
        self.held = None  # a packet that the next one overtakes

    def take(self, now, how):
        while True:
            try:
                data = os.read(self.source, 2048)
            except BlockingIOError:
                return
            if not data:
                return
            begin = max(now, self.free)
            if begin - now > how["queue_ms"] / 1000:
                self.full += 1
                continue
            if how["mbit"] > 0:
                self.free = begin + len(data) * 8 / (how["mbit"] * 1e6)
                begin = self.free
            self.seen += 1
            if how["loss_nth"] > 0 and self.seen % how["loss_nth"] == 0:
                self.lost += 1
                continue
            if how["loss"] > 0 and self.dice.random() < how["loss"]:
                self.lost += 1
                continue
            due = begin + how["delay_ms"] / 1000 + self.dice.random() * how["jitter_ms"] / 1000
            if how["swap_nth"] > 0 and self.seen % how["swap_nth"] == 0 and self.held is None:
                self.held = (due, data)
                continue
            for _ in range(2 if self.dice.random() < how["double"] else 1):
                self.count += 1
                heapq.heappush(self.way, (due, self.count, data))
            if self.held is not None:
                self.swapped += 1
                self.let_go(due)

    def let_go(self, due):
        self.count += 1
        heapq.heappush(self.way, (due, self.count, self.held[1]))
        self.held = None

    def give(self, now):
        if self.held is not None and now > self.held[0] + 0.1:  # nothing came to overtake it
            self.let_go(now)
        while self.way and self.way[0][0] <= now:
            try:
                os.write(self.sink, heapq.heappop(self.way)[2])
                self.passed += 1
            except (BlockingIOError, OSError):
                self.lost += 1


def carry(orders, a, b, seed):
    how = dict(mbit=0, queue_ms=100, delay_ms=0, jitter_ms=0, loss=0, loss_nth=0, swap_nth=0, double=0, every_s=0, out_s=0)
    both = [Direction(a, b, random.Random(seed)), Direction(b, a, random.Random(seed + 1))]
    begin = time.monotonic()
    while True:
        now = time.monotonic()
        away = how["every_s"] > 0 and (now - begin) % how["every_s"] > how["every_s"] - how["out_s"]
        next_due = min([d.way[0][0] for d in both if d.way] + [d.held[0] + 0.1 for d in both if d.held] + [now + 1])
        ready, _, _ = select.select([a, b, orders], [], [], max(0, min(next_due - now, 0.01 if away else 1)))
        now = time.monotonic()
        if orders in ready:
            try:
                order = orders.recv()
            except EOFError:
                return
            if order is None:
                orders.send([(d.passed, d.lost, d.full, d.swapped) for d in both])
            else:
                how.update(order)
                begin = now
        for d in both:
            if away:  # what arrives meanwhile is lost, as in a radio that hears nothing
                for _ in range(64):
                    try:
                        os.read(d.source, 2048)
                        d.lost += 1
                    except BlockingIOError:
                        break
            else:
                d.take(now, how)
            d.give(now)


class Path:
    def __init__(self, near, near_ip, far, far_ip, seed=1):
        self.ends = ((near, near_ip, far_ip), (far, far_ip, near_ip))
        self.seed, self.devices = seed, []

    def __enter__(self):
        fds, home = [], os.open("/proc/self/ns/net", os.O_RDONLY)
        for name, ip, peer in self.ends:
            if name:
                enter(name)
            device = "path" + ip.replace(".", "")[:10]
            fds.append(tun(device))
            self.devices.append(device)
            subprocess.run(["ip", "addr", "add", ip, "peer", peer, "dev", device], check=True)
            subprocess.run(["ip", "link", "set", device, "up", "multicast", "on"], check=True)
            libc.setns(home, 0x40000000)
        os.close(home)
        self.orders, theirs = multiprocessing.Pipe()
        self.child = multiprocessing.Process(target=self.run, args=(theirs, *fds), daemon=True)
        self.child.start()
        for fd in fds:
            os.close(fd)
        return self

    def run(self, orders, a, b):
        self.orders.close()
        try:
            carry(orders, a, b, self.seed)
        except KeyboardInterrupt:
            pass

    def set(self, **how):
        self.orders.send(how)

    def counts(self):
        """[(passed, lost, refused by the queue, overtaken by the next one)] of both directions."""
        self.orders.send(None)
        return self.orders.recv()

    def __exit__(self, *_):
        self.child.kill()  # it keeps nothing; others may hold the other end of its orders, so that it would not see them end
        self.child.join()
        self.orders.close()
