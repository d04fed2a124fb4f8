"""Ports for tests: below those that the system gives to whoever asks for any, so that no other program takes them meanwhile."""
from random import SystemRandom
import socket


def free_ports(count=2, kind=socket.SOCK_DGRAM):
    """A run of free ports, the first one even."""
    while True:
        first, held = SystemRandom().randrange(20000, 32000, 2), []
        try:
            for port in range(first, first + count):
                held.append(socket.socket(socket.AF_INET, kind))
                held[-1].bind(("127.0.0.1", port))
            return first
        except OSError:
            pass
        finally:
            for s in held:
                s.close()


def free_port(kind=socket.SOCK_STREAM):
    return free_ports(1, kind)
