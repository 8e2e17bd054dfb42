"""Places that take their time: 500 of them surveyed, and 1,000 small files of a workstation over the network.

The yardstick is what nobody can beat: all answers there have to be, ÷ how many are awaited at once, × how long one
takes. The workstation is Samba's file service on loopback, behind a relay that holds back every piece for half a
round trip.
"""

import asyncio
import contextlib
import os
import socket
import sys
import threading
import time
from collections.abc import Iterator
from pathlib import Path

from measure import Bench, Figure

DELAY = 0.005  # seconds, of a round trip
PLACE = '[places.{name}]\nkind = "folder"\npath = "house/{name}"\nfolders = {{ home = "home" }}\n'
FAR = """
[places.front-desk]
kind = "workstation"
address = "127.0.0.1:{port}"
user = "root"
folders = {{ home = "Users/ivy" }}
"""


def survey_of(bench: Bench, count: int = 500, seconds: float = 1.0) -> Iterator[Figure]:
    """Measure a survey of places that each take so long to answer."""
    from zinker.jobs import load_setup, survey
    from zinker.jobs.surveying import CONCURRENCY
    from zinker.places.folder import FolderPlace

    toml = bench.base / "zinker/zinker.toml"
    names = [f"kiosk-{number}" for number in range(count)]
    text = 'subjects = ["subjects"]\n' + "".join(PLACE.format(name=name) for name in names)
    toml.write_text(text.replace('"house/', f'"{bench.base}/house/'))
    for name in names:
        (bench.base / "house" / name / "home").mkdir(parents=True)
    os.environ["ZINKER_HOME"] = str(toml.parent)
    answered = FolderPlace.absence

    def slowly(self: FolderPlace) -> str:
        time.sleep(seconds)
        return answered(self)

    FolderPlace.absence = slowly  # type: ignore[method-assign]
    setup = load_setup()
    started = time.perf_counter()
    with contextlib.suppress(
        Exception
    ):  # nothing is kept, and nothing is there: that is asked of every place
        survey(setup, tuple(names), ("herbarium",))
    taken = time.perf_counter() - started
    FolderPlace.absence = answered  # type: ignore[method-assign]
    floor = count / CONCURRENCY * seconds
    case = f"survey of {count} places, {seconds:g} s each to answer"
    yield Figure(case, f"answers ÷ {CONCURRENCY} × {seconds:g} s", [taken / floor], 1.3)


@contextlib.contextmanager
def relayed(target: int) -> Iterator[int]:
    """Serve a port whose pieces come half a round trip later at another one, and the other way round."""
    loop = asyncio.new_event_loop()

    async def pump(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        waiting: asyncio.Queue[tuple[float, bytes]] = asyncio.Queue()

        async def send() -> None:
            while True:
                at, data = await waiting.get()
                await asyncio.sleep(max(0.0, at - loop.time()))
                if not data:
                    writer.close()
                    return
                writer.write(data)
                await writer.drain()

        sending = asyncio.ensure_future(send())
        while True:
            data = await reader.read(1 << 16)
            waiting.put_nowait((loop.time() + DELAY / 2, data))
            if not data:
                break
        await sending

    async def joined(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        others = await asyncio.open_connection("127.0.0.1", target)
        for one in (writer, others[1]):
            one.get_extra_info("socket").setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
        await asyncio.gather(pump(reader, others[1]), pump(others[0], writer), return_exceptions=True)

    server = loop.run_until_complete(asyncio.start_server(joined, "127.0.0.1", 0))
    thread = threading.Thread(target=loop.run_forever, daemon=True)
    thread.start()
    try:
        yield server.sockets[0].getsockname()[1]
    finally:
        for task in asyncio.all_tasks(loop):
            loop.call_soon_threadsafe(task.cancel)
        loop.call_soon_threadsafe(loop.stop)
        thread.join()


def workstation(bench: Bench, count: int = 1000) -> Iterator[Figure]:
    """Measure the capture of small files, and how they come back, at some milliseconds a round trip."""
    sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
    from test_registry import SMBD, Samba

    if SMBD is None or os.geteuid():
        print("a workstation over the network: not measured, there is no Samba")
        return
    server, disk = Samba(bench.base / "samba"), bench.base / "far"
    folder = disk / "Users/ivy/many"
    for number in range(count):
        file = folder / f"d{number % 20}/f{number}.json"
        file.parent.mkdir(parents=True, exist_ok=True)
        file.write_text(f'{{"a": {number}, "b": "x"}}\n')
    subject = bench.base / "zinker/subjects/many.subject.toml"
    subject.write_text(
        'format = 1\nid = "many"\ntitle = "Many"\n[[part]]\nid = "m"\nstore = "file"\npath = "{home}/many/**"\n'
    )
    with server.conf.open("a") as conf:
        conf.write(f"[C$]\npath = {disk}\nread only = no\n")
    server.stop()
    server.start()
    try:
        with relayed(server.port) as port:
            (bench.base / "zinker/zinker.toml").write_text(
                'subjects = ["subjects"]\n' + FAR.format(port=port)
            )
            bench.env["ZINKER_SECRET_FRONT_DESK"] = "fern-42"
            yield from _measured(bench, count, folder)
    finally:
        server.stop()


# What MS-SMB2 has no way around: to open, read and close a file; to put one back, that for the fallback, to make,
# write, flush and close the new one, to open, rename and close it, and to read it back.
REQUESTS = {"captured": 3, "put back": 13}


def _measured(bench: Bench, count: int, folder: Path) -> Iterator[Figure]:
    from zinker.stores.smb_files import SmbTree

    at_once = SmbTree.side_by_side
    taken: dict[str, list[float]] = {what: [] for what in REQUESTS}
    peak = 0.0
    for _ in range(bench.rounds):
        there = bench.zinker("export", "many", "--place", "front-desk", "--again")
        taken["captured"].append(there.wall)
        for file in folder.rglob("*.json"):
            file.write_text(file.read_text().replace('"x"', '"y"'))
        back = bench.zinker("import", "many", "--place", "front-desk", "--yes")
        taken["put back"].append(back.wall)
        peak = max(peak, there.peak, back.peak)
    for what, requests in REQUESTS.items():
        floor = count * requests / at_once * DELAY
        case = f"{count:,} small files of a workstation over the network, {DELAY * 1000:g} ms a round trip, {what}"
        yardstick = f"{requests} requests each ÷ {at_once} × {DELAY * 1000:g} ms"
        yield Figure(case, yardstick, [one / floor for one in taken[what]], 3, peak=peak)


CASES = {"survey": survey_of, "workstation": workstation}
