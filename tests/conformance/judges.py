"""Reference readers, none of them ours: what they see of a document, as a tree of values with their types.

A tree is `("map", {name: tree})`, `("list", [tree])` or a value: `("text", str)`, `("int", digits)`, and so on.
"""

import base64
import configparser
import ctypes
import ctypes.util
import datetime
import io
import json
import plistlib
import re
import subprocess
from decimal import Decimal
from functools import cache

import tomlkit
from conformance.fetched import npm_modules
from lxml import etree

MODULES = ("yaml@2.9.1", "dot-properties@1.1.2", "jsonc-parser@3.3.1")
Tree = tuple


class Refused(Exception):
    """The reference does not take a document."""


class Seen:
    """What a reference sees of a document: its values, and the comments in it, in their order."""

    def __init__(self, tree, comments=()):
        self.tree, self.comments = tree, [c.strip() for c in comments]


def seen(format, data):
    """Return what the reference of a format sees; raises `Refused`."""
    try:
        return _JUDGES[format](data) if isinstance(format, str) else _configparser(data, *format)
    except Refused:
        raise
    except Exception as error:  # noqa: BLE001 - what a reader of somebody else's raises is its own business
        raise Refused(f"{type(error).__name__}: {error}") from None


@cache
def _node():
    folder = npm_modules(*MODULES)
    script = __file__.replace("judges.py", "judge.mjs")
    return subprocess.Popen(
        ["node", script, folder], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True
    )


def _by_node(format):
    def judge(data):
        if format in ("yaml", "properties") and re.search(rb"\r(?!\n)", data):
            raise Refused("a carriage return alone, which this reader does not take for the end of a line")
        node = _node()
        line = {"format": format, "data": base64.b64encode(data.removeprefix(b"\xef\xbb\xbf")).decode()}
        node.stdin.write(json.dumps(line) + "\n")
        node.stdin.flush()
        answer = json.loads(node.stdout.readline())
        if "error" in answer:
            raise Refused(answer["error"])
        return Seen(_tree(answer["value"]), answer["comments"])

    return judge


def _tree(value):
    kind, *rest = value
    if kind == "map":
        if len(dict(rest[0])) < len(rest[0]):
            raise Refused("a name twice")
        return "map", {name: _tree(below) for name, below in rest[0]}
    if kind == "list":
        return "list", [_tree(item) for item in rest[0]]
    if kind in ("int", "float"):
        return number(kind, rest[0])
    if kind in ("tagged", "standard"):
        return kind, rest[0], _tree(rest[1])
    return tuple(value)


def number(kind, text):
    text = text.replace("_", "").lower()
    if kind == "int":
        base = {"0x": 16, "0o": 8}.get(text.lstrip("+-")[:2], 10)
        return "int", int(text, base)
    text = text.replace(".inf", "inf").replace(".nan", "nan")
    if text.lstrip("+-") in ("inf", "nan"):
        return "float", text.lstrip("+").replace("-nan", "nan")
    return "float", str(Decimal(text).normalize())


def _toml(data):
    text = data.decode()
    if text.startswith("\ufeff"):
        raise Refused("a byte-order mark")
    comments = [c for c in re.findall(_TOML_PIECES, text) if c.startswith("#")]
    return Seen(_of_toml(tomlkit.parse(text)), comments)


_TOML_PIECES = r'"""(?:[^\\]|\\.)*?"""|\'\'\'(?:.|\n)*?\'\'\'|"(?:[^"\\\n]|\\.)*"|\'[^\'\n]*\'|#[^\n]*'


def _of_toml(value):
    if isinstance(value, dict):
        return "map", {str(name): _of_toml(below) for name, below in value.items()}
    if isinstance(value, list):
        return "list", [_of_toml(item) for item in value]
    if isinstance(value, bool | tomlkit.items.Bool):
        return "bool", bool(value)
    if isinstance(value, float):
        return number("float", value.as_string() if hasattr(value, "as_string") else repr(value))
    if isinstance(value, int):
        return "int", int(value)
    if isinstance(value, datetime.date | datetime.time):
        raw = value.as_string() if hasattr(value, "as_string") else value.isoformat()
        return "date", moment(raw)
    return "text", str(value).replace("\r\n", "\n")  # as its readers may have it


def moment(text):
    """Return a date in one spelling."""
    text = text.upper().replace(" ", "T").replace("Z", "+00:00")
    return re.sub(r"(\.\d*?)0*(?=[-+]|$)", r"\1", text).replace(".+", "+").removesuffix(".")


def plist_value(value):
    """Return a value of CPython's own reader of property lists as a tree."""
    if isinstance(value, dict):
        if not all(isinstance(name, str) for name in value):
            raise Refused("a key that is no text")
        return "map", {name: plist_value(below) for name, below in value.items()}
    if isinstance(value, list):
        return "list", [plist_value(item) for item in value]
    if isinstance(value, bool):
        return "bool", value
    if isinstance(value, int):
        return "int", value
    if isinstance(value, float):
        return number("float", repr(value))
    if isinstance(value, bytes):
        return "bytes", base64.b64encode(value).decode()
    if isinstance(value, datetime.datetime):
        return "date", moment(value.isoformat() + "Z")
    if isinstance(value, plistlib.UID):
        return "uid", value.data
    if value is None:
        return ("null",)
    return "text", value


def _plist(data):
    if data.startswith(b"bplist"):
        return Seen(plist_value(plistlib.loads(data)))
    if b"<!ENTITY" in data:
        raise Refused("entities")
    tree = etree.fromstring(data, etree.XMLParser(resolve_entities=False, no_network=True, huge_tree=True))
    comments = [comment.text or "" for comment in tree.iter(etree.Comment)]
    return Seen(plist_value(plistlib.loads(data, fmt=plistlib.FMT_XML)), comments)


def ini_value(sections):
    """Return sections with their keys as a tree; a key without a value is a null."""
    return "map", {
        section: (
            "map",
            {key: ("null",) if value is None else ("text", value) for key, value in keys.items()},
        )
        for section, keys in sections.items()
    }


_ODD_SPACE = re.compile("[\x0b\x0c\x1c-\x1f\x85\xa0\u1680\u2000-\u200a\u2028\u2029\u202f\u205f\u3000]")


def _configparser(data, delimiters, comments, inline, allow_no_value, empty_lines, strict, default):
    parser = configparser.RawConfigParser(
        delimiters=delimiters, comment_prefixes=comments, inline_comment_prefixes=inline, strict=strict,
        allow_no_value=allow_no_value, empty_lines_in_values=empty_lines, default_section=default,
    )  # fmt: skip
    parser.optionxform = str
    text = data.decode("utf-8-sig")
    if _ODD_SPACE.search(text):
        raise Refused("a space beyond ASCII, which configparser cuts off")
    parser.read_file(io.StringIO(text, newline=None))
    found = {name: dict(parser._sections[name]) for name in parser.sections()}  # without what is by default
    if parser.defaults():
        found[default] = dict(parser.defaults())
    return Seen(ini_value(found), _line_comments(text, tuple(comments)))


# As desktop applications write them.
PLAIN_INI = ("=",), ("#", ";"), (), True, False, True, "\0"


def _ini(data):
    if re.search(rb"^[ \t]+\S", data, re.MULTILINE):
        raise Refused("a line that configparser would take for more of a value")
    return _configparser(data, *PLAIN_INI)


def _line_comments(text, marks):
    return [line for line in text.splitlines() if line.strip().startswith(tuple(marks))]


_ALL_OF_IT = 3  # comments and translations, too


def _keyfile(data):
    """GLib's own reader of key files; texts as they stand in the file."""
    glib = _glib()
    file, error = glib.g_key_file_new(), ctypes.c_void_p()
    try:
        if not glib.g_key_file_load_from_data(file, data, len(data), _ALL_OF_IT, ctypes.byref(error)):
            raise Refused("GLib does not take it")
        sections = {}
        for group in _names(glib, glib.g_key_file_get_groups(file, None)):
            keys = sections[group.decode()] = {}
            for key in _names(glib, glib.g_key_file_get_keys(file, group, None, None)):
                value = glib.g_key_file_get_value(file, group, key, None)
                keys[key.decode()] = ctypes.string_at(value).decode()
                glib.g_free(value)
    finally:
        glib.g_key_file_free(file)
    return Seen(ini_value(sections), _line_comments(data.decode(), "#"))


@cache
def _glib():
    glib = ctypes.CDLL(ctypes.util.find_library("glib-2.0") or "libglib-2.0.so.0")
    pointer, text = ctypes.c_void_p, ctypes.c_char_p
    for name, answer, takes in (
        ("g_key_file_new", pointer, []),
        ("g_key_file_free", None, [pointer]),
        ("g_key_file_load_from_data", ctypes.c_int, [pointer, text, ctypes.c_size_t, ctypes.c_int, pointer]),
        ("g_key_file_get_groups", pointer, [pointer, pointer]),
        ("g_key_file_get_keys", pointer, [pointer, text, pointer, pointer]),
        ("g_key_file_get_value", pointer, [pointer, text, text, pointer]),
        ("g_strfreev", None, [pointer]),
        ("g_free", None, [pointer]),
    ):
        function = getattr(glib, name)
        function.restype, function.argtypes = answer, takes
    return glib


def _names(glib, listed):
    names, at = [], 0
    while one := ctypes.cast(listed, ctypes.POINTER(ctypes.c_char_p))[at]:
        names.append(one)
        at += 1
    glib.g_strfreev(listed)
    return names


def _xml(data):
    """libxml2's reader, with name spaces: the tree is the document itself."""
    if b"<!ENTITY" in data:
        raise Refused("entities")
    root = etree.fromstring(
        data,
        etree.XMLParser(
            resolve_entities=False,
            no_network=True,
            huge_tree=True,
            load_dtd=False,
            attribute_defaults=False,
            strip_cdata=False,
        ),
    )
    comments = [c.text or "" for c in root.getroottree().xpath("//comment()")]
    return Seen(_of_xml(root), comments)


def _of_xml(element):
    """Return an element as a tree: its name, attributes and what is in it, texts joined, comments left out."""
    inside, text = [], element.text or ""
    for child in element:
        if isinstance(child.tag, str):
            inside += [text, _of_xml(child)]
            text = ""
        text += child.tail or ""
    return "element", element.tag, dict(element.attrib), [*inside, text]


_JUDGES = {
    "yaml": _by_node("yaml"),
    "json": _by_node("json"),
    "jsonc": _by_node("jsonc"),
    "properties": _by_node("properties"),
    "toml": _toml,
    "plist": _plist,
    "ini": _ini,
    "keyfile": _keyfile,
    "xml": _xml,
}
