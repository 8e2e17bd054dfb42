"""A port for a service of our own on this machine."""

import random
import socket

# Below those that systems give to outgoing connections (from 32,768 on, or 49,152): one of these could take the
# port of a service that is being started again, and a client that asks for it too early could get itself.
_PORTS = range(20_000, 32_000)


def free_port() -> int:
    """Return a port of the loopback at which nothing listens; raises `OSError` where there is none."""
    for port in random.sample(_PORTS, 500):  # noqa: S311 - not a secret
        with socket.socket() as free:
            try:
                free.bind(("127.0.0.1", port))
            except OSError:
                continue
            return port
    raise OSError("no port is free")
