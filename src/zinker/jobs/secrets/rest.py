"""Looks for secrets where no settings are: in comments, in tables that no subject names, in files carried whole."""

import base64
import re
from collections.abc import Iterator
from functools import partial
from typing import IO

from zinker import formats
from zinker.formats.dialect import Dialect
from zinker.formats.leaves import Edit, Leaves
from zinker.formats.text import decode
from zinker.jobs.secrets.detect import rule_of_looks
from zinker.jobs.secrets.shapes import assigned, fits, key_in, look_of, pem_in
from zinker.model.address import pointer
from zinker.model.errors import DocumentError, NotWritable, WrongUsage
from zinker.model.setting import Leaf
from zinker.stores.reading import Content

_SQLITE = b"SQLite format 3\0"
_TRIED = 100  # comments that are cut out one by one
_CHUNK = 4 * 1024 * 1024
_OVERLAP = 16 * 1024
_COMMENTS = {
    "ini": r"^[ \t]*[;#][^\r\n]*|[ \t][;#][^\r\n]*",
    "key-value": r"^[ \t]*[;#!][^\r\n]*|[ \t]#[^\r\n]*",
    "properties": r"^[ \t]*[#!][^\r\n]*",
    "json": r"//[^\r\n]*|^[ \t]*#[^\r\n]*",
    "yaml": r"^[ \t]*#[^\r\n]*|[ \t]#[^\r\n]*",
    "toml": r"^[ \t]*#[^\r\n]*|[ \t]#[^\r\n]*",
    "xml": "",
    "plist": "",
    "pattern": r"^[^\r\n]+",  # what no pattern fits is no setting
}
_MARKUP = (("<!--", "-->"), ("<?", "?>"))
_BLOCKS = {"json": (("/*", "*/"),), "xml": _MARKUP, "plist": _MARKUP}
# One of these is in every document of a format that has comments.
_BEGINS = {
    "ini": (b";", b"#"),
    "key-value": (b";", b"#", b"!"),
    "properties": (b"#", b"!"),
    "json": (b"//", b"/*", b"#"),
    "yaml": (b"#",),
    "toml": (b"#",),
    "xml": (b"<!--", b"<?"),
    "plist": (b"<!--", b"<?"),
    "pattern": (b"",),
}
# What a secret of a type is replaced by: something of the same type, as not every format has a null.
_NOTHING = {"text": "", "int": 0, "float": 0.0, "bool": False, "bytes": ""}
# What names a password by a word that stands before it, and by its place in a line.
_NETRC = (
    r"(?m)^[ \t]*(?:machine\s{1,20}\S{1,200}|default)\s{1,20}"
    r"(?:(?:login|user|account)\s{1,20}\S{1,200}\s{1,20}){1,2}(?:password|passwd)\s{1,20}(\S{1,200})"
)
_PGPASS = r"(?m)^[^\s:#]+:(?:\d+|\*):[^\s:]+:[^\s:]+:((?:[^\s:\\]|\\.)+)[ \t]*\r?$"
# Long enough not to be in bytes by chance.
_STEMS_IN_BYTES = (b"passw", b"passph", b"secret", b"token", b"kennw", b"apikey", b"api_key")
_NO_TEXT = bytes({*range(9), *range(14, 27), *range(28, 32)})
# What is no sign of a text ends a line.
_LINES = bytes(code if code >= 32 or code == 9 else 10 for code in range(256))
_OWNERS = r"(?:this|self|document|window|props|state|config|settings|options|request|event|args|os|process)"
_CODE = rf"{_OWNERS}(?:\.|->|::)\w.*|.*\(.*|\w+(?:\[|\]).*"


def without_secrets(
    format: str, data: bytes, dialect: Dialect, reader: formats.Reader, secret: Leaves
) -> tuple[bytes, str]:
    """Return a document without its secrets, and which there was that no setting is: the first of them, or "".

    Raises `NotWritable` where they cannot be cut out.
    """
    edits = [Edit(address, emptied(leaf)) for address, leaf in secret.items()]
    cut = formats.edit(format, data, edits, dialect, reader) if edits else data
    try:
        return _without_rest(format, cut, dialect, reader, bool(edits))
    except DocumentError as error:
        raise NotWritable("", str(error)) from None


def emptied(leaf: Leaf) -> Leaf:
    """Return what stands in a profile's copy of a file for a secret: the same without its content."""
    if leaf.type == "list":
        return Leaf("list", [""] * len(leaf.value))  # written over as many lines as the old one
    return Leaf(leaf.type, _NOTHING[leaf.type]) if leaf.type in _NOTHING else Leaf("null", None)


def _without_rest(
    format: str, data: bytes, dialect: Dialect, reader: formats.Reader, is_cut: bool
) -> tuple[bytes, str]:
    if format == "sqlite":
        from zinker.jobs.secrets.cells import without_cells  # most runs need no SQLite

        return without_cells(data, dialect, cell_rule, is_cut)
    if (
        format not in _COMMENTS
        or data.startswith(b"bplist")
        or not any(sign in data for sign in _BEGINS[format])
    ):
        return data, ""
    text = decode(data, declared=dialect.encoding)
    characters = text.characters
    found = [
        (span, rule)
        for span in _comments(format, characters)
        if (rule := rule_of_text(characters[slice(*span)]))
    ]
    if not found:
        return data, ""
    before = reader.read(format, data, dialect)
    shorter = characters
    for span, _ in reversed(found):
        shorter = _without(format, shorter, *span)
    if _reads_as(format, text.encode(shorter), dialect, before):
        return text.encode(shorter), found[0][1]
    if len(found) > _TRIED:
        raise NotWritable("", "too many of its comments look like secrets")
    for span, _ in reversed(found):
        shorter = _without(format, characters, *span)
        if _reads_as(format, text.encode(shorter), dialect, before):
            characters = shorter
    # What is left of them stands inside a value, which is looked at as a setting.
    return text.encode(characters), found[0][1] if characters != text.characters else ""


def _comments(format: str, text: str) -> list[tuple[int, int]]:
    """Return where comments may be, in their order; they do not overlap."""
    spans = (
        [found.span() for found in re.finditer(_COMMENTS[format], text, re.MULTILINE)]
        if _COMMENTS[format]
        else []
    )
    for begin, end in _BLOCKS.get(format, ()):
        at = text.find(begin)
        while at >= 0 and (stop := text.find(end, at + len(begin))) >= 0:
            spans.append((at, stop + len(end)))
            at = text.find(begin, stop)
    chosen: list[tuple[int, int]] = []
    for span in sorted(spans):
        if not chosen or span[0] >= chosen[-1][1]:
            chosen.append(span)
    return chosen


def _without(format: str, text: str, start: int, end: int) -> str:
    """Return a text without a comment, and without its line where that has nothing else."""
    begin = text.rfind("\n", 0, start) + 1
    stop = text.find("\n", end) + 1 or len(text)
    if not text[begin:start].strip() and not text[end:stop].strip():
        return text[:begin] + text[stop:]
    left = next(("".join(marks) for marks in _BLOCKS.get(format, ()) if text.startswith(marks[0], start)), "")
    return text[:start] + left + text[end:]


def _reads_as(format: str, data: bytes, dialect: Dialect, leaves: Leaves) -> bool:
    try:
        return formats.read(format, data, dialect) == leaves
    except (DocumentError, NotWritable):
        return False


def cell_rule(column: str, value: object) -> str:
    """Say why a cell of a table looks like a secret, or ""."""
    if isinstance(value, bytes):
        return rule_of_looks(pointer(column), Leaf("bytes", base64.b64encode(value).decode()))
    if isinstance(value, str | int):
        return rule_of_looks(pointer(column), Leaf("int" if isinstance(value, int) else "text", value))
    return ""


def rule_of_text(text: str) -> str:
    """Say which secret a text that is no setting holds, or ""."""
    if look := look_of(text):
        return look
    if given := next(assigned(text), None):
        return f"a value for {given[0]}"
    return ""


def check_said(*said: str) -> None:
    """Refuse a label or note that holds a secret: a profile says them in clear. Raises `WrongUsage`."""
    for text in said:
        if rule := rule_of_text(text):
            why = f"the label or note holds {rule}, and whoever has the profile can read it"
            raise WrongUsage("Not kept", why, "Say it without that.")


def rule_of_file(content: Content) -> str:
    """Say which secret a file that is carried whole holds, or ""; raises `OSError`."""
    if key := key_in(content.beginning):
        return key
    if content.beginning.startswith(_SQLITE):
        return _rule_of_database(content)
    encoding = _encoding(content.beginning)
    rule_of = partial(_rule_of_lines, encoding=encoding) if encoding else _rule_of_bytes
    if not encoding and content.size <= len(content.beginning):
        rule_of = _given_in_bytes  # keys in all of it have been looked for
    with content.open() as stream:
        return next(filter(None, map(rule_of, _chunks(stream))), "")


def _chunks(stream: IO[bytes]) -> Iterator[bytes]:
    tail = b""
    while chunk := stream.read(_CHUNK):
        yield tail + chunk
        tail = chunk[-_OVERLAP:]


def _rule_of_lines(data: bytes, encoding: str) -> str:
    text = data.decode(encoding, "replace").removeprefix("\ufeff")
    listed = [_NETRC] if "login" in text and "passw" in text else []
    listed += [_PGPASS] if ":" in text else []
    if any(fits("password", found[1]) for pattern in listed for found in re.finditer(pattern, text)):
        return "a password"
    return look_of(text) or _given_in(text)


def _rule_of_bytes(data: bytes) -> str:
    if data == bytes(len(data)):  # a hole of a file
        return ""
    return "a private key" if pem_in(data) else _given_in_bytes(data)


def _given_in_bytes(data: bytes) -> str:
    # It is no text, but there may be some in it, as in what editors keep of a file that is open.
    return _given_in(data.translate(_LINES).decode("latin-1")) if _may_give(data) else ""


def _may_give(data: bytes) -> bool:
    lower = data.lower()
    return any(stem in lower for stem in _STEMS_IN_BYTES)


def _given_in(text: str) -> str:
    """Say to which secret a text gives a value that is no piece of a program, or ""."""
    given = next((name for name, value in assigned(text) if not re.fullmatch(_CODE, value)), "")
    return f"a value for {given}" if given else ""


def _encoding(beginning: bytes) -> str:
    """Return the encoding of the text that begins so, or "" for anything else."""
    for mark, encoding in ((b"\xff\xfe", "utf-16-le"), (b"\xfe\xff", "utf-16-be")):
        if beginning.startswith(mark):
            return encoding
    # What is no text mostly shows that at once.
    if all(len(part.translate(None, _NO_TEXT)) == len(part) for part in (beginning[:512], beginning)):
        return "utf-8"
    for at, encoding in ((1, "utf-16-le"), (0, "utf-16-be")):
        zeros, others = beginning[at:4096:2], beginning[1 - at : 4096 : 2]
        if zeros.count(0) > len(zeros) * 0.8 and not others.count(0):
            return encoding
    return ""


def _rule_of_database(content: Content) -> str:
    from zinker.jobs.secrets.cells import cell_with_rule

    with content.open() as stream:
        data = stream.read()
    try:
        return cell_with_rule(data, cell_rule)
    except DocumentError:  # it is damaged, and what in it is what cannot be told
        return "what may be a secret" if _may_give(data) else ""
