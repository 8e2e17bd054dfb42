"""Starts the command as its script does, without loading it each time.

Most of a small command's time is its start, and the tests make thousands of them. Here a process has loaded what
earlier runs needed, and forks for each run, which has arguments, environment, folder and streams of its own and
ends as any process does. Starts as they are for people, where modules load when they are needed, are made by
whatever needs a terminal, a wrapper or a signal, by the story and by the benchmarks; `ZINKER_TEST_STARTS=1` makes
all of them so.
"""

import atexit
import contextlib
import gc
import json
import os
import runpy
import selectors
import shutil
import signal
import socket
import subprocess
import sys
import tempfile
import time
from pathlib import Path

CAN_FORK = hasattr(os, "fork") and hasattr(socket, "send_fds") and "ZINKER_TEST_STARTS" not in os.environ
_WHOLE = 4000  # bytes that a pipe takes as one


class Starter:
    """Forks runs of the command; safe to use from several threads."""

    def __init__(self):
        self._address = os.path.join(tempfile.mkdtemp(prefix="zinker-tests-"), "starter")
        listening = socket.socket(socket.AF_UNIX)
        listening.bind(self._address)
        listening.listen(64)
        # It ends when nobody holds the other end of its standard input any more.
        self._process = subprocess.Popen(
            [sys.executable, __file__, str(listening.fileno())],
            stdin=subprocess.PIPE,
            pass_fds=[listening.fileno()],
        )
        listening.close()

    def run(self, arguments, cwd, env):
        """Run the command to its end; exit code as subprocess has it, and what it wrote."""
        request = json.dumps({"arguments": arguments, "cwd": str(cwd), "env": env}).encode()
        with (
            tempfile.TemporaryFile() as out,
            tempfile.TemporaryFile() as err,
            socket.socket(socket.AF_UNIX) as line,
        ):
            line.connect(self._address)
            socket.send_fds(line, [len(request).to_bytes(8, "big")], [out.fileno(), err.fileno()])
            line.sendall(request)
            status = line.makefile("rb").read()
            out.seek(0)
            err.seek(0)
            texts = [stream.read().decode().replace("\r\n", "\n") for stream in (out, err)]
        return os.waitstatus_to_exitcode(int(status)), *texts


def _serve(listening):
    """Fork for each request; returns in a run that was forked, with what it is to be."""
    running = {}
    loaded, load = os.pipe()
    wake, woken = os.pipe()
    os.set_blocking(woken, False)
    signal.set_wakeup_fd(woken)
    signal.signal(signal.SIGCHLD, lambda *_: None)
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # it ends with those who ask
    waiting = selectors.DefaultSelector()
    for one in (0, wake, loaded, listening):
        waiting.register(one, selectors.EVENT_READ)
    while True:
        ready = {key.fileobj for key, _ in waiting.select()}
        if listening in ready:
            line, _ = listening.accept()
            size, descriptors, _, _ = socket.recv_fds(line, 8, 2)
            request = json.loads(line.makefile("rb").read(int.from_bytes(size, "big")))
            pid = os.fork()
            if pid == 0:
                for one in (listening, line, *running.values(), waiting):
                    one.close()
                signal.set_wakeup_fd(-1)
                os.close(wake)
                os.close(woken)
                atexit.register(_tell, set(sys.modules), load)
                return request, descriptors
            running[pid] = line
            for one in descriptors:
                os.close(one)
        if wake in ready:
            os.read(wake, 4096)
            with contextlib.suppress(ChildProcessError):
                while (ended := os.waitpid(-1, os.WNOHANG))[0]:
                    with running.pop(ended[0]) as line, contextlib.suppress(OSError):
                        line.sendall(str(ended[1]).encode())
        if loaded in ready:
            _load(os.read(loaded, 1 << 16))
        if 0 in ready:
            shutil.rmtree(os.path.dirname(listening.getsockname()))
            os._exit(0)


def _tell(before, load):
    """Say which modules a run had to load."""
    names = b"".join(f"{name}\n".encode() for name in sys.modules if name not in before)
    for at in range(0, len(names), _WHOLE):
        os.write(load, names[at : at + _WHOLE])


def _load(names):
    """Load what further runs need; a name that was cut in two is told again by the next."""
    for name in names.decode().split():
        with contextlib.suppress(Exception):
            __import__(name)
    gc.freeze()


def _become(request, descriptors):
    """Be a process that has just been started so."""
    signal.signal(signal.SIGCHLD, signal.SIG_DFL)
    signal.signal(signal.SIGINT, signal.default_int_handler)
    os.chdir(request["cwd"])
    os.environ.clear()
    os.environ.update(request["env"])
    time.tzset()
    nothing = os.open(os.devnull, os.O_RDONLY)
    for number, descriptor in enumerate((nothing, *descriptors)):
        os.dup2(descriptor, number)
        os.close(descriptor)
    sys.argv = ["zinker", *request["arguments"]]
    for folder in os.environ.get("PYTHONPATH", "").split(os.pathsep):
        if folder:
            sys.path.insert(0, folder)
            with contextlib.suppress(FileNotFoundError):
                runpy.run_path(os.path.join(folder, "sitecustomize.py"))


if __name__ == "__main__":
    sys.path.remove(str(Path(__file__).parent))
    _load(b"zinker.cli.main")
    _become(*_serve(socket.socket(fileno=int(sys.argv[1]))))
    from zinker.cli.main import run

    sys.exit(run())
