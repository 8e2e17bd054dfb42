"""Requests to the hosts of a tenant, side by side, and their answers (RFC 9110), with patience and with limits.

What can be waited for is: Retry-After, tired services, connections that are cut. Whoever never comes to an end is
left: one clock runs for each answer, from asking to its last byte. Nothing is sent to hosts that the configuration
does not name, or over an open line.
"""

import contextlib
import datetime
import email.utils
import json
import random
import re
import socket
import threading
import time
import zlib
from collections.abc import Callable, Iterator, Mapping
from concurrent.futures import Future, ThreadPoolExecutor
from typing import Any, NamedTuple, TypeVar
from urllib.parse import urljoin, urlsplit

import httpx2

from zinker.formats.walk import exact
from zinker.stores.tenants.pacing import Pace
from zinker.stores.tenants.policies import TOO_DEEP
from zinker.stores.tenants.service import Limits, Service, TenantError, Unsure, is_open, origin, shown

T = TypeVar("T")
Headers = Mapping[str, str]

_TRIES = 12  # of a request that failed for a reason that may pass
_TOLD = 3  # of one that a service answers with a mistake of its own, and mostly with a reason
_ASKED = 200  # times that a service may ask for patience, for one request
_LONGEST = 2.0  # seconds between two tries
_TIMEOUT, _CONNECT = 60.0, 10.0
_SPARE = 3  # threads
_TICK = 0.25  # seconds between two looks at what takes too long
_MB = 1024 * 1024
# What an answer may consist of: each value takes some hundred bytes of memory.
_VALUES = 2_000_000
_DEEP = 200  # levels, where a text has more than can be taken apart at all
_TOKEN = re.compile(rb'"(?:[^"\\]|\\.)*"|[\[\]{}]')
_HEADERS = {"Accept-Encoding": "gzip, deflate", "User-Agent": "zinker"}
_GIVEN_UP = "it was given up"
_PASSING = (429, 502, 503, 504)


class Answer(NamedTuple):
    """What a service has answered; the content is unpacked."""

    url: str
    status: int
    headers: httpx2.Headers
    content: bytes

    @property
    def is_success(self) -> bool:
        """Whether the service has done what was asked."""
        return 200 <= self.status < 300

    def json(self) -> dict[str, Any]:
        """Return the object that the answer is, numbers exactly as they are; raises `TenantError`."""
        size = sum(map(self.content.count, (b",", b"[", b"{")))
        if size > _VALUES:
            raise TenantError(f"{self.url} answered with more than {_VALUES:,} values")
        try:
            try:
                found = json.loads(self.content, parse_float=exact, parse_constant=_no_number)
            except RecursionError:  # which costs the item that it is in, and no other
                found = json.loads(_cut(self.content), parse_float=exact, parse_constant=_no_number)
        except ValueError:
            raise TenantError(f"{self.url} answered with what is no JSON", self.status) from None
        if not isinstance(found, dict):
            raise TenantError(f"{self.url} answered with what is no object", self.status)
        return found

    def told(self) -> str:
        """Return what the service says about an error, or what its status means.

        Problem details (RFC 9457), errors of OData (JSON 4.01, section 21.1), OAuth (RFC 6749, section 5.2) and
        SCIM (RFC 7644, section 3.12), the title of a page, or a plain text.
        """
        status = f"{self.status} {httpx2.codes.get_reason_phrase(self.status)}".strip()
        said = shown(self._said())
        return f"{said} ({status})" if said else status

    def _said(self) -> object:
        try:
            told = self.json()
        except TenantError:
            text = self.content[:4096].decode("utf-8", "replace")
            if "<" not in text:
                return text
            title = re.search(r"<title[^>]*>([^<]*)", text, re.I)
            return title[1] if title else ""
        error = told.get("error")
        inner = error if isinstance(error, dict) else {}
        message = inner.get("message")
        if isinstance(message, dict):  # as older services have it, in some language
            message = message.get("value")
        details = inner.get("details")
        more = (
            [one.get("message") for one in details if isinstance(one, dict)]
            if isinstance(details, list)
            else []
        )
        found = (
            told.get("detail"),
            told.get("error_description"),
            told.get("title"),
            told.get("message"),
            error,
        )
        first = message or next((text for text in found if text and isinstance(text, str)), "")
        return "\n".join(str(text) for text in (first, *more) if text)


class _Line:
    """A client for one request at a time, and its socket: in one for all, they would wait for each other."""

    def __init__(self, certificates: Any) -> None:
        self.client = httpx2.Client(verify=certificates)
        self.ends = 0.0  # when the answer has to be there
        self.is_late = False
        self._stream: Any = None

    def traced(self, event: str, info: Mapping[str, Any]) -> None:
        """Take note of the connection that is made."""
        made = info.get("return_value")
        if event.endswith(".complete") and hasattr(made, "get_extra_info"):
            self._stream = made

    def cut(self) -> None:
        """Have whoever waits for the answer wait no longer."""
        self.is_late = True
        with contextlib.suppress(OSError, AttributeError):
            self._stream.get_extra_info("socket").shutdown(socket.SHUT_RDWR)


class _Patience:
    """How long one request is tried again, and waited for."""

    def __init__(self, url: str, most: float, is_safe: bool) -> None:
        self._url, self._most, self._is_safe = url, most, is_safe
        self.failed = 0
        self._broken = 0  # answers that own to a mistake of the service
        self._asked = 0  # times that a service asked for patience, if only for none
        self._waited = 0.0

    def after_cut(self, error: httpx2.TransportError, is_known: bool) -> int:
        """Return how often it has failed, now that a connection was cut; raises where that is the end."""
        self.failed += 1
        has_begun = not isinstance(error, httpx2.ConnectError | httpx2.ConnectTimeout)
        if not self._is_safe and has_begun:
            raise Unsure(f"the connection was cut: {plain(error)}") from None
        if self.failed > (_TRIES if is_known else 1) or _is_certain(error):
            raise TenantError(unreachable(self._url, error)) from None
        return self.failed

    def asked_for(self, answer: Answer) -> float | None:
        """Return for how many seconds a service asks for patience, None where it does not.

        Raises `TenantError` where that is too long.
        """
        asked = answer.headers.get("Retry-After")
        if answer.status not in (429, 503) or (asked is None and self.failed >= _TRIES):
            return None
        seconds = _seconds(asked) if asked else min(_LONGEST, 0.05 * 2 ** (self.failed + 1))
        self.failed += asked is None
        self._asked += 1
        self._waited += seconds
        if self._waited <= self._most and self._asked <= _ASKED:
            return seconds
        then = datetime.datetime.now() + datetime.timedelta(seconds=min(seconds, 3e9))
        until = f"until {then:%Y-%m-%d %H:%M}" if seconds > 60 else "again and again"
        limit = f"longer than the {self._most:,} seconds that its entry in zinker.toml allows"
        limit = limit if self._waited > self._most else f"{_ASKED} times for one request"
        host = urlsplit(self._url).netloc
        raise TenantError(f"{host} asks for patience {until}, {limit}: {answer.told()}", answer.status)

    def is_worth_another(self, answer: Answer) -> bool:
        """Tell whether to try again; raises `Unsure` for what failed and may have been done."""
        if not self._is_safe and answer.status >= 500:
            raise Unsure(answer.told(), answer.status)
        self.failed += 1
        self._broken += answer.status == 500
        is_passing = answer.status in _PASSING or (answer.status == 500 and self._broken < _TOLD)
        return is_passing and self.failed < _TRIES


class Connection:
    """Whatever is said to the hosts of one tenant."""

    def __init__(self, service: Service) -> None:
        self._limits: Limits = service.limits
        self._origins = service.origins()
        self._certificates = httpx2.create_ssl_context()
        self._idle: list[_Line] = []
        self._busy: set[_Line] = set()
        # More than may be under way: while some take answers apart, others ask.
        self._pool = ThreadPoolExecutor(service.concurrency + _SPARE)
        self._pace = Pace(service.concurrency)
        self._lock = threading.Lock()
        self._watch: threading.Thread | None = None
        self._is_over = threading.Event()
        self._given_up = 0  # so many times
        self._answered: set[str] = set()

    def submit(self, job: Callable[[], T]) -> "Future[T]":
        """Run something side by side with others."""
        return self._pool.submit(job)

    def give_up(self) -> None:
        """Let go of everything that is under way, at once; what is asked for later is answered again."""
        with self._lock:
            self._given_up += 1
            for line in self._busy:
                line.cut()

    def close(self) -> None:
        """Let go of the connections."""
        self._is_over.set()
        self._pace.stop()
        self.give_up()
        self._pool.shutdown(cancel_futures=True)
        for line in self._idle:
            line.client.close()

    def is_told(self, url: str) -> bool:
        """Tell whether a URL is one of the hosts that may be told secrets."""
        return origin(url) in self._origins

    def check(self, url: str, what: str) -> None:
        """Raise `TenantError` for a URL that nothing secret may be sent to; `what` says whose it is."""
        try:
            is_clear = is_open(url)
        except ValueError:
            raise TenantError(f"{what} is at {shown(url)}, which is no address") from None
        if is_clear:
            raise TenantError(f"{what} would have secrets sent in clear, to {shown(url)}")
        if not self.is_told(url):
            host = shown(urlsplit(url).netloc)
            raise TenantError(
                f"{what} is at {host}, which zinker.toml does not name",
                then=f'If it belongs to the tenant, add hosts = ["{host}"] to its entry.',
            )

    def send(
        self,
        method: str,
        url: str,
        headers: Callable[[], Headers] = dict,
        body: bytes = b"",
        is_safe: bool = True,
    ) -> Answer:
        """Send a request, and again while the reason that it failed for may pass; returns the last answer.

        What is not `is_safe` to be sent twice is not, once it may have been done: `Unsure` is raised. Raises
        `TenantError` where no answer came, where it is too much, or where it points elsewhere.
        """
        self.check(url, "what is asked for")
        begun = self._given_up
        patience = _Patience(url, self._limits.wait, is_safe)
        while True:
            if self._given_up != begun:
                raise TenantError(_GIVEN_UP)
            try:
                answer = self._once(method, url, headers(), body)
            except httpx2.TransportError as error:
                if self._given_up != begun:
                    raise TenantError(_GIVEN_UP) from None
                # Who has never answered is not there, or is somebody else.
                self.pause(patience.after_cut(error, origin(url) in self._answered))
                continue
            if 300 <= answer.status < 400:
                target = shown(joined(url, answer.headers.get("Location", "")))
                raise TenantError(f"{url} has moved to {target}, which is not followed", answer.status)
            if (seconds := patience.asked_for(answer)) is not None:
                self._pace.hold(seconds)
            elif patience.is_worth_another(answer):
                self.pause(patience.failed)
            else:
                if answer.is_success:
                    self._pace.answered()
                return answer

    def _once(self, method: str, url: str, headers: Headers, body: bytes) -> Answer:
        with self._pace, self._line() as line:
            # Made directly: what the client would add to each of thousands of requests is not needed.
            times = {"connect": _CONNECT, "read": _TIMEOUT, "write": _TIMEOUT, "pool": _CONNECT}
            request = httpx2.Request(
                method,
                url,
                headers={**_HEADERS, **headers},
                content=body or None,
                extensions={"timeout": times, "trace": line.traced},
            )
            try:
                answer = line.client.send(request, stream=True)
                try:
                    content = self._unpacked(url, answer)
                finally:
                    answer.close()
            except httpx2.TransportError:
                if time.monotonic() > line.ends:
                    raise self._late(method, url) from None
                raise
            if line.is_late:  # what ends with its connection seemed to have come to its end
                raise self._late(method, url)
        self._answered.add(origin(url))
        return Answer(url, answer.status_code, answer.headers, content)

    def _late(self, method: str, url: str) -> TenantError:
        why = f"{urlsplit(url).netloc} did not come to an end within {self._limits.seconds} seconds"
        return (TenantError if method == "GET" else Unsure)(why)

    @contextlib.contextmanager
    def _line(self) -> Iterator[_Line]:
        if self._is_over.is_set():
            raise TenantError(_GIVEN_UP)
        with self._lock:
            line = self._idle.pop() if self._idle else _Line(self._certificates)
            line.ends, line.is_late = time.monotonic() + self._limits.seconds, False
            self._busy.add(line)
            if self._watch is None:
                self._watch = threading.Thread(target=self._look, daemon=True)
                self._watch.start()
        try:
            yield line
        finally:
            with self._lock:
                self._busy.discard(line)
                if not line.is_late:
                    self._idle.append(line)

    def _look(self) -> None:
        """Leave whoever never comes to an end: a byte now and then would be waited for without end."""
        while not self._is_over.wait(_TICK):
            now = time.monotonic()
            with self._lock:
                for line in self._busy:
                    if now > line.ends:
                        line.cut()

    def _unpacked(self, url: str, answer: httpx2.Response) -> bytes:
        coding = answer.headers.get("Content-Encoding", "").strip().lower()
        if coding not in ("", "identity", "gzip", "x-gzip", "deflate"):
            raise TenantError(f"{url} answered in an encoding that was not asked for: {shown(coding)}")
        most = self._limits.answer * _MB
        unpacker: Any = None if coding in ("", "identity") else zlib.decompressobj(32 + zlib.MAX_WBITS)
        found: list[bytes] = []
        size = 0
        try:
            for packed in answer.iter_raw():
                if unpacker is None:
                    piece = packed
                else:
                    if coding == "deflate" and not found and not size and packed[:1] != b"\x78":
                        unpacker = zlib.decompressobj(-zlib.MAX_WBITS)
                    piece = unpacker.decompress(packed, most - size + 1)
                size += len(piece)
                found.append(piece)
                if size > most:
                    why = f"more than the {self._limits.answer:,} MB that its entry in zinker.toml allows"
                    raise TenantError(f"{url} answered with {why}")
            if unpacker is not None and (found and not unpacker.eof):
                raise zlib.error("it is cut off")
        except zlib.error as error:
            raise TenantError(f"{url} answered with what cannot be unpacked: {error}") from None
        return b"".join(found)

    def pause(self, failed: int) -> None:
        """Wait for a while before something is tried again, the longer the more often it has failed."""
        seconds = min(_LONGEST, 0.05 * 2**failed) * random.uniform(0.5, 1)  # noqa: S311 - only to spread tries
        self._is_over.wait(seconds)


def _cut(content: bytes) -> bytes:
    """Return JSON with a mark in place of what is nested too deeply."""
    kept: list[bytes] = []
    depth = last = 0
    for token in _TOKEN.finditer(content):
        first = content[token.start() : token.start() + 1]
        if first in b"[{":
            depth += 1
            if depth == _DEEP:
                kept += (content[last : token.start()], b'{"%s": true}' % TOO_DEEP.encode())
        elif first in b"]}":
            if depth == _DEEP:
                last = token.end()
            depth -= 1
    return b"".join((*kept, content[last:]))


def joined(base: str, link: str) -> str:
    """Return where a link leads from a URL; one that is no address is left as it is, and leads nowhere."""
    try:
        return urljoin(base, link)
    except ValueError:
        return link


def _no_number(text: str) -> float:
    raise ValueError(text)


def _is_certain(error: Exception) -> bool:
    return "CERTIFICATE" in str(error).upper()


def unreachable(url: str, error: Exception) -> str:
    """Say that a host does not answer, and why."""
    host = urlsplit(url).netloc or url
    if _is_certain(error):
        return f"{host} has a certificate that does not hold: {plain(error)}"
    return f"{host} cannot be reached: {plain(error)}"


def plain(error: Exception) -> str:
    """Return what an error of a connection says, without numbers that nobody knows."""
    return shown(str(error).removeprefix("[Errno ").rpartition("] ")[2]) or type(error).__name__


def _seconds(text: str) -> float:
    """Return how long to wait (RFC 9110, section 10.2.3): seconds, or until a point in time in any of its forms."""
    if re.fullmatch(r"\s*[0-9]+(\.[0-9]+)?\s*", text):
        return min(float(text), 1e12)
    try:
        then = email.utils.parsedate_to_datetime(text)
    except (ValueError, TypeError, IndexError, OverflowError):
        return 1.0
    aware = then if then.tzinfo else then.replace(tzinfo=datetime.UTC)  # asctime names no zone: it is UTC
    return max(0.0, (aware - datetime.datetime.now(datetime.UTC)).total_seconds())
