"""How long reading and editing take for inputs that are made to take long: size against time, by text format."""

import contextlib
import gc
import time
from collections.abc import Callable, Iterator
from pathlib import Path

from zinker import formats
from zinker.formats.dialect import PLAIN, Dialect
from zinker.formats.leaves import Edit
from zinker.model.errors import DocumentError, NotWritable
from zinker.model.setting import Leaf

START, END = "<!-- traps -->\n", "<!-- end of traps -->\n"
SIZES = (250_000, 500_000, 1_000_000)
EDITS = 500
# One unit of a document as often as it takes to fill a size, with what stands before and behind.
Trap = tuple[str, str, Dialect, str, Callable[[int], str], str]
INDENT, BACKSLASH = Dialect(continued="indent"), Dialect(continued="backslash")
TRAPS: list[Trap] = [
    ("json", "on one line", PLAIN, "{", lambda n: f'{"," if n else ""}"key {n}":{{"a":{n},"b":["x",1.5]}}', "}"),
    ("json", "with comments", PLAIN, "{", lambda n: f'{"," if n else ""}/*"*/"k{n}":"//" // "\n', "}"),
    ("json", "escapes without an end", PLAIN, '[1,] "', lambda n: '\\"\\', ""),
    ("json", "comments without an end", PLAIN, "[1,] ", lambda n: "/* ", ""),
    ("json", "open lists", PLAIN, "", lambda n: "[", ""),
    ("json", "one long list", PLAIN, '{"list":[', lambda n: f'{"," if n else ""}{n}', "]}"),
    ("yaml", "lines", PLAIN, "", lambda n: f"key {n}:\n  a: {n}\n  b: [x, 1.5]\n", ""),
    ("yaml", "on one line", PLAIN, "{", lambda n: f'{", " if n else ""}key {n}: {{a: {n}, b: [x, 1.5]}}', "}"),
    ("yaml", "anchors", PLAIN, "", lambda n: f"k{n}: &a{n} 1\nl{n}: *a{n}\n", ""),
    ("yaml", "question marks", PLAIN, "", lambda n: f"? {' ' * (n % 50)}k{n}\n: v\n", ""),
    ("yaml", "quotes without an end", PLAIN, "", lambda n: f"k{n}: 'x\n", ""),
    ("toml", "tables", PLAIN, "", lambda n: f"[table-{n}]\na = {n}\nb = ['x', 'y']\n", ""),
    ("toml", "on one line", PLAIN, "t = {", lambda n: f'{", " if n else ""}k{n} = {{a = {n}}}', "}\n"),
    ("toml", "lists of tables", PLAIN, "", lambda n: f"[[t]]\na = {n}\n", ""),
    ("toml", "quotes without an end", PLAIN, "", lambda n: f'k{n} = """x\n', ""),
    ("xml", "elements", PLAIN, "<r>", lambda n: f'<item name="{n}"><a x="1">{n}</a></item>\n', "</r>"),
    ("xml", "elements of one name", PLAIN, "<r>", lambda n: "<a>x</a>", "</r>"),
    ("xml", "text in pieces", PLAIN, "<r><t>", lambda n: "x<!-- y -->", "</t></r>"),
    ("xml", "attributes", PLAIN, "<r ", lambda n: f'a{n}="x" ', "/>"),
    ("xml", "beyond ASCII", PLAIN, "<r>", lambda n: f'<ä id="{n}">ü</ä>', "</r>"),
    ("plist", "keys", PLAIN, '<plist version="1.0"><dict>', lambda n: f"<key>k{n}</key><string>{n}</string>\n", "</dict></plist>"),  # noqa: E501
    ("ini", "sections", PLAIN, "", lambda n: f"[s{n}]\na={n}\nb=x\n", ""),
    ("ini", "one key again", PLAIN, "[s]\n", lambda n: "a=1\n", ""),
    ("ini", "a value that goes on", INDENT, "[s]\na=1\n", lambda n: f"  {n}\n", ""),
    ("ini", "blank lines in it", INDENT, "[s]\n", lambda n: f"k{n}=1\n\n  x\n\n", ""),
    ("ini", "ends with backslashes", BACKSLASH, "[s]\na=", lambda n: f"{n}\\\n", ""),
    ("ini", "one after the other", BACKSLASH, "[s]\n", lambda n: f"k{n}=\\\\\\\n  x\n", ""),
    ("ini", "nested", Dialect(nested=True), "", lambda n: f"[s{n}]\na=1\n[[t]]\nb=2\n", ""),
    ("ini", "brackets", PLAIN, "", lambda n: "[", "]\n"),
    ("properties", "lines", PLAIN, "", lambda n: f"key.{n} = value \\u00e9\n", ""),
    ("properties", "a value that goes on", PLAIN, "a=", lambda n: f"{n}\\\n", ""),
    ("properties", "backslashes", PLAIN, "", lambda n: "\\\\", "\n"),
    ("key-value", "lines", PLAIN, "", lambda n: f"key{n}   value {n}\n", ""),
    ("key-value", "spaces", PLAIN, "a", lambda n: "  ", "b\n"),
    ("pattern", "lines", Dialect(pattern=r"^set (?P<key>\S+) (?P<value>.*)$", line="set {key} {value}"), "", lambda n: f"set k{n} {n}\n", ""),  # noqa: E501
]  # fmt: skip


def made(trap: Trap, size: int) -> bytes:
    """Return a document of about that many bytes."""

    def pieces() -> Iterator[str]:
        number = written = 0
        while written < size:
            piece = trap[4](number)
            yield piece
            number, written = number + 1, written + len(piece)

    return (trap[3] + "".join(pieces()) + trap[5]).encode()


def tried(trap: Trap, size: int) -> tuple[float, float]:
    """Return the processor time that reading takes, and editing 500 settings."""
    format, _, dialect, *_ = trap
    data = made(trap, size)
    started = time.process_time()
    try:
        leaves = formats.read(format, data, dialect)
    except DocumentError:
        return time.process_time() - started, 0.0
    read = time.process_time() - started
    addresses = [address for address, leaf in leaves.items() if leaf.type == "text"] or list(leaves)
    chosen = addresses[:: max(1, len(addresses) // EDITS)][:EDITS]
    edits = [Edit(address, Leaf("text", "changed") if n % 3 else None) for n, address in enumerate(chosen)]
    started = time.process_time()
    with contextlib.suppress(NotWritable):
        formats.edit(format, data, edits, dialect)
    return read, time.process_time() - started


def measure(document: Path | None) -> None:
    """Read and edit them all, print, and write."""
    gc.set_threshold(200_000, 50, 50)  # as the command does
    rows = []
    for trap in TRAPS:
        times = [tried(trap, size) for size in SIZES]
        cells = " | ".join(f"{read:.2f}, {edit:.2f}" for read, edit in times)
        rows.append(f"| {trap[0]}: {trap[1]} | {cells} |\n")
        print(rows[-1], end="", flush=True)
    if document:
        head = "| 500 edits; seconds to read, to edit | 250 kB | 500 kB | 1 MB |\n|---|---|---|---|\n"
        before, _, rest = document.read_text(encoding="utf-8").partition(START)
        written = f"{before}{START}{head}{''.join(rows)}{END}{rest.partition(END)[2]}"
        document.write_text(written, encoding="utf-8")
