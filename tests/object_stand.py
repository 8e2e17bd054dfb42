"""Object storage as others have built it, on this machine, and a line to it that is not what it should be."""

import base64
import contextlib
import hashlib
import hmac
import http.client
import http.server
import logging
import re
import shutil
import socket
import subprocess
import threading
import time
import urllib.request
from email.utils import formatdate

from conformance.fetched import npm_modules

from zinker.demo.ports import free_port

PHRASE = {"ZINKER_SECRET_SEAL": "three quiet ferns"}
AZURITE = "azurite@3.35.0"
# What everybody signs with at that stand-in; it is in its documentation.
ACCOUNT = "devstoreaccount1"
KEY = "Eby8vdM02xNOcqFlqUwJPLlmEtlCDXJ1OUzFT50uSRZ6IFsuFq2UVErCz4I6tq/K1SZFPTOtr/KBHBeksoGMGw=="


class S3:
    """An S3 API with one bucket."""

    user, secret, address = "garden-key", "fern-42", "s3://garden/shelf"

    def __init__(self, tmp_path):
        from moto.server import ThreadedMotoServer

        logging.getLogger("werkzeug").setLevel(logging.ERROR)
        self._server = ThreadedMotoServer("127.0.0.1", port=0, verbose=False)
        self._server.start()
        self.port = self._server.get_host_and_port()[1]
        self.path = ""
        # What it keeps is its process's, and outlives it.
        reset = urllib.request.Request(f"http://127.0.0.1:{self.port}/moto-api/reset", method="POST")  # noqa: S310
        urllib.request.urlopen(reset).close()
        request = urllib.request.Request(f"http://127.0.0.1:{self.port}/garden", method="PUT")  # noqa: S310
        request.add_header(
            "Authorization", "AWS4-HMAC-SHA256 Credential=x/20260101/us-east-1/s3/aws4_request"
        )
        urllib.request.urlopen(request).close()

    def stop(self):
        self._server.stop()


class Azure:
    """An Azure blob API with one container."""

    user, secret, address = ACCOUNT, KEY, "az://garden/shelf"

    def __init__(self, tmp_path):
        program = npm_modules(AZURITE) / "node_modules/azurite/dist/src/blob/main.js"
        self.port = free_port()
        self.path = f"/{ACCOUNT}"
        log = (tmp_path / "azurite.log").open("wb")
        own = ["--blobPort", str(self.port), "--location", str(tmp_path / "azurite"), "--skipApiVersionCheck"]
        words = [shutil.which("node"), str(program), *own, "--silent"]
        self._process = subprocess.Popen(words, stdout=log, stderr=log, stdin=subprocess.DEVNULL)
        until = time.monotonic() + 120
        while time.monotonic() < until:
            with contextlib.suppress(OSError):
                self._make()
                return
            time.sleep(0.2)
        raise AssertionError((tmp_path / "azurite.log").read_text())

    def _make(self):
        """Make the container, signed as its makers say (Shared Key)."""
        date, version = formatdate(usegmt=True), "2021-12-02"
        head = f"PUT\n\n\n\n\n\n\n\n\n\n\n\nx-ms-date:{date}\nx-ms-version:{version}\n"
        text = f"{head}/{ACCOUNT}/{ACCOUNT}/garden\nrestype:container"
        sign = base64.b64encode(hmac.digest(base64.b64decode(KEY), text.encode(), hashlib.sha256)).decode()
        line = http.client.HTTPConnection("127.0.0.1", self.port, timeout=10)
        headers = {"x-ms-date": date, "x-ms-version": version, "Authorization": f"SharedKey {ACCOUNT}:{sign}"}
        line.request("PUT", f"/{ACCOUNT}/garden?restype=container", headers=headers | {"Content-Length": "0"})
        answer = line.getresponse()
        if answer.status not in (201, 409):
            raise OSError(f"{answer.status} {answer.read()}")

    def stop(self):
        self._process.kill()
        self._process.wait()


class Between:
    """Stands between somebody and a server: counts requests, and does to each what `meddle` says.

    `meddle` is given the number of a request, from 1, and says "", "late", "busy" (503 in its place), "cut" (the
    line goes before the server has it) or "lost" (the server has done it, and the answer goes).
    """

    def __init__(self, server, meddle=lambda number: ""):
        self.server, self.meddle, self.count, self.asked = server, meddle, 0, []
        counting = threading.Lock()
        between = self

        class Handler(http.server.BaseHTTPRequestHandler):
            protocol_version = "HTTP/1.1"

            def log_message(self, *_):
                pass

            def _pass(self):
                body = self.rfile.read(int(self.headers.get("Content-Length") or 0))
                with counting:
                    between.count += 1
                    what = between.meddle(between.count)
                    between.asked.append(f"{self.command} {self.path}")
                if what == "late":
                    time.sleep(0.05)
                if what == "cut":
                    self._cut()
                    return
                if what == "busy":
                    self._answer(503, {"Content-Length": "0"}, b"")
                    return
                line = http.client.HTTPConnection("127.0.0.1", between.server.port, timeout=60)
                try:
                    line.request(self.command, self.path, body, dict(self.headers))
                    answer = line.getresponse()
                    data = answer.read()
                finally:
                    line.close()
                if what == "lost":
                    self._cut()
                    return
                headers = {
                    k: v
                    for k, v in answer.getheaders()
                    if k.lower() not in ("transfer-encoding", "connection")
                }
                if self.command != "HEAD":
                    headers = {k: v for k, v in headers.items() if k.lower() != "content-length"}
                    headers["Content-Length"] = str(len(data))
                self._answer(answer.status, headers, data)

            def _answer(self, status, headers, data):
                self.send_response_only(status)
                for name, value in headers.items():
                    self.send_header(name, value)
                self.end_headers()
                if self.command != "HEAD":
                    self.wfile.write(data)

            def _cut(self):
                self.close_connection = True
                self.connection.shutdown(socket.SHUT_RDWR)

            do_GET = do_PUT = do_POST = do_DELETE = do_HEAD = _pass

        self._web = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        self._web.daemon_threads = True
        self.port = self._web.server_address[1]
        threading.Thread(target=self._web.serve_forever, daemon=True).start()

    def stop(self):
        self._web.shutdown()
        self._web.server_close()


def shelved(garden, server, port=0, folder="shelf"):
    """Have a garden keep its versions there."""
    toml = garden.home / "zinker.toml"
    text = toml.read_text().partition("\n[object_storage]")[0]
    address = server.address.replace("/shelf", f"/{folder}")
    lines = [f'shelf = "{address}"' if one.startswith("shelf = ") else one for one in text.splitlines()]
    endpoint = f"http://127.0.0.1:{port or server.port}{server.path}"
    own = f'\n[object_storage]\nendpoint = "{endpoint}"\nuser = "{server.user}"\n'
    toml.write_text("\n".join(lines) + "\n" + own)
    garden.env["ZINKER_SECRET_SHELF"] = server.secret
    return garden


def sealed(garden, seal="passphrase"):
    """Have a garden's shelf sealed; "" for one that is not."""
    toml = garden.home / "zinker.toml"
    text = re.sub(r'^seal = "[^"]*"\n', "", toml.read_text(), flags=re.M)
    toml.write_text((f'seal = "{seal}"\n' if seal else "") + text)
    garden.env |= PHRASE
    return garden
