"""What an edit changes in a document, line by line: its own place, looking as a person would write it."""

import difflib

import pytest

from zinker import formats
from zinker.formats.leaves import Edit
from zinker.model.errors import NotWritable
from zinker.model.setting import Leaf


def text(value):
    return Leaf("text", value)


def changed_lines(format, document, edits):
    """The lines that an edit takes out and puts in."""
    after = formats.edit(format, document.encode(), [Edit(a, leaf) for a, leaf in edits.items()]).decode()
    lines = difflib.unified_diff(document.splitlines(), after.splitlines(), n=0, lineterm="")
    return [line for line in list(lines)[2:] if not line.startswith("@@")]


YAML = """\
# the desk
a: 1   # one
b: 'x'
c:
  d: "q"
  f:
  - one
  - two
g: &usual {x: 1, y: 2}
h: *usual
i: |
  some
  text
l:
  - name: p
    v: 1
  - name: q
    v: 2
n:
"""
TOML = """\
title = "x" # why
[owner]
name = 'Fern'
[owner.sub]
  a.b = 1
  a.c = [1, 2,
    3]
[[fruit]]
name = "apple"

[[fruit]]
name = "pear"
inline = { x = 1, y = "2" }
"""
XML = """\
<?xml version="1.0" encoding="UTF-8"?>
<!DOCTYPE desk SYSTEM "http://desk.example/desk.dtd">
<desk version='3' xmlns:q="urn:q">
  <units>mm</units>   <!-- keep -->
  <empty/>
  <keys>
    <action name="save" keys="Ctrl+S"/>
    <action name="open" keys="Ctrl+O"/>
  </keys>
  <list><i>1</i><i>2</i></list>
  <raw><![CDATA[a < b]]></raw>
</desk>
"""
PLIST = """\
<?xml version="1.0" encoding="UTF-8"?>
<plist version="1.0">
<dict>
\t<key>a</key>
\t<string>x</string>
\t<key>d</key>
\t<dict>
\t\t<key>n</key>
\t\t<integer>5</integer>
\t</dict>
</dict>
</plist>
"""
JSON = """\
{
  // about a
  "a": 1, // note a
  /* about b */
  "b": {"x": 1, "y": [1, 2,]},
  "c": [
    {"k": 1},
    {"k": 2}, // second
  ] // note c
}
"""
INI = """\
[lamps]
dusk = 19:30
label =

[benches]
  east=1

; the end
"""
PROPERTIES = """\
# lamps
lamp.north : 19:30
lamp.names = east,\\
             west
"""


@pytest.mark.parametrize(
    ("format", "document", "edits", "lines"),
    [
        ("yaml", YAML, {"/a": text("two words")}, ["-a: 1   # one", "+a: two words   # one"]),
        ("yaml", YAML, {"/b": text("it's")}, ["-b: 'x'", "+b: 'it''s'"]),
        ("yaml", YAML, {"/c/f": Leaf("list", ["p", True])}, ["-  - one", "-  - two", "+  - p", "+  - true"]),
        ("yaml", YAML, {"/c/z": Leaf("int", 3)}, ["+  z: 3"]),
        ("yaml", YAML, {"/g/z": Leaf("bool", True)},
         ["-g: &usual {x: 1, y: 2}", "+g: &usual {x: 1, y: 2, z: true}"]),
        ("yaml", YAML, {"/g/x": None}, ["-g: &usual {x: 1, y: 2}", "+g: &usual {y: 2}"]),
        ("yaml", YAML, {"/h": text("own")}, ["-h: *usual", "+h: own"]),
        ("yaml", YAML, {"/i": text("a\nb\n")}, ["-i: |", "-  some", "-  text", '+i: "a\\nb\\n"']),
        ("yaml", YAML, {"/l/0/name": None}, ["-  - name: p", "-    v: 1", "+  - v: 1"]),
        ("yaml", YAML, {"/l/1/name": None, "/l/1/v": None}, ["-  - name: q", "-    v: 2"]),
        ("yaml", YAML, {"/l/2/name": text("r"), "/l/2/v": text("- #")}, ["+  - name: r", '+    v: "- #"']),
        ("yaml", YAML, {"/n": text("x")}, ["-n:", "+n: x"]),
        ("yaml", YAML, {"/new/deep": text("1"), "/new/l": Leaf("list", ["a"])},
         ["+new:", '+  deep: "1"', "+  l:", "+    - a"]),
        ("toml", TOML, {"/title": text("y")}, ['-title = "x" # why', '+title = "y" # why']),
        ("toml", TOML, {"/owner/name": text("Moss")}, ["-name = 'Fern'", "+name = 'Moss'"]),
        ("toml", TOML, {"/owner/sub/a/d": Leaf("bool", True)}, ["+  a.d = true"]),
        ("toml", TOML, {"/owner/sub/a/c": Leaf("list", ["a"])}, ["-  a.c = [1, 2,", "-    3]", '+  a.c = ["a"]']),
        ("toml", TOML, {"/owner/sub/a/b": None, "/owner/sub/a/c": None},
         ["-[owner.sub]", "-  a.b = 1", "-  a.c = [1, 2,", "-    3]"]),
        ("toml", TOML, {"/fruit/2/name": text("plum")}, ["+", "+[[fruit]]", '+name = "plum"']),
        ("toml", TOML, {"/fruit/0/deep/x": text("1")}, ['+deep.x = "1"']),
        ("toml", TOML, {"/fruit/1/inline/x": None}, ['-inline = { x = 1, y = "2" }', '+inline = { y = "2" }']),
        ("toml", TOML, {"/new/table/k": text("v")}, ["+", "+[new.table]", '+k = "v"']),
        ("xml", XML, {"/desk/units": text("a & <b>")},
         ["-  <units>mm</units>   <!-- keep -->", "+  <units>a &amp; &lt;b></units>   <!-- keep -->"]),
        ("xml", XML, {"/desk/@version": text("4'")},
         ["-<desk version='3' xmlns:q=\"urn:q\">", "+<desk version='4&apos;' xmlns:q=\"urn:q\">"]),
        ("xml", XML, {"/desk/empty": text("full")}, ["-  <empty/>", "+  <empty>full</empty>"]),
        ("xml", XML, {"/desk/raw": text("c < d")},
         ["-  <raw><![CDATA[a < b]]></raw>", "+  <raw><![CDATA[c < d]]></raw>"]),
        ("xml", XML, {'/desk/keys/action[@name="close"]/@keys': text("F9")},
         ['+    <action name="close" keys="F9"/>']),
        ("xml", XML, {'/desk/keys/action[@name="save"]/@keys': None}, ['-    <action name="save" keys="Ctrl+S"/>']),
        ("xml", XML, {"/desk/list/i[3]": text("3")},
         ["-  <list><i>1</i><i>2</i></list>", "+  <list><i>1</i><i>2</i><i>3</i></list>"]),
        ("xml", XML, {"/desk/new/deep": text("1"), "/desk/new/deep/@k": text("2")},
         ["+  <new>", '+    <deep k="2">1</deep>', "+  </new>"]),
        ("plist", PLIST, {"/d/n": None},
         ["-\t<key>d</key>", "-\t<dict>", "-\t\t<key>n</key>", "-\t\t<integer>5</integer>", "-\t</dict>"]),
        ("plist", PLIST, {"/d/m": Leaf("bytes", "AAE=")}, ["+\t\t<key>m</key>", "+\t\t<data>AAE=</data>"]),
        ("plist", PLIST, {"/a": Leaf("bool", True)}, ["-\t<string>x</string>", "+\t<true/>"]),
        ("json", JSON, {"/a": None}, ["-  // about a", '-  "a": 1, // note a']),
        ("json", JSON, {"/b/y": None}, ['-  "b": {"x": 1, "y": [1, 2,]},', '+  "b": {"x": 1},']),
        ("json", JSON, {"/c/2/k": Leaf("int", 3)}, ["+    {", '+      "k": 3', "+    },"]),
        ("json", JSON, {"/d": text("x")}, ["-  ] // note c", "+  ], // note c", '+  "d": "x"']),
        ("ini", INI, {"/lamps/label": text("north")}, ["-label =", "+label = north"]),
        ("ini", INI, {"/lamps/dawn": text("06:10")}, ["+dawn = 06:10"]),
        ("ini", INI, {"/benches/west": text("2")}, ["+  west=2"]),
        ("ini", INI, {"/new/k": text("v")}, ["+", "+[new]", "+  k=v"]),
        ("ini", INI, {"/lamps/dusk": None, "/lamps/label": None}, ["-[lamps]", "-dusk = 19:30", "-label ="]),
        ("properties", PROPERTIES, {"/lamp.names": text("a\tb")},
         ["-lamp.names = east,\\", "-             west", "+lamp.names = a\\tb"]),
        ("properties", PROPERTIES, {"/lamp new": text("é")}, ["+lamp\\ new = \\u00e9"]),
    ],
)  # fmt: skip
def test_an_edit_changes_its_own_place(format, document, edits, lines):
    assert changed_lines(format, document, edits) == lines
    crlf = document.replace("\n", "\r\n").encode()
    after = formats.edit(format, crlf, [Edit(a, leaf) for a, leaf in edits.items()])
    assert after.count(b"\n") == after.count(b"\r\n")


@pytest.mark.parametrize(
    ("format", "document", "address", "leaf"),
    [
        ("yaml", YAML, "/c", text("x")),
        ("yaml", YAML, "/a/b", text("x")),
        ("yaml", YAML, "/l/7/name", text("x")),
        ("yaml", YAML, "/a", Leaf("dword", 1)),
        ("yaml", YAML, "/l/0/name/x", None),
        ("toml", TOML, "/title", Leaf("null", None)),
        ("toml", TOML, "/owner", text("x")),
        ("toml", TOML, "/title", text("\ud800")),
        ("toml", TOML, "/title", Leaf("date", "soon")),
        ("xml", XML, "/desk/units", text("\x01")),
        ("xml", XML, "/desk/two words", text("x")),
        ("xml", XML, "/other", text("x")),
        ("xml", XML, "/desk/units/deeper", text("x")),
        ("xml", XML, "/desk/@version", Leaf("int", 4)),
        ("xml", XML, "/desk/list/i", None),  # the second one would get its address
        ("plist", PLIST, "/d", text("x")),
        ("plist", PLIST, "/a", Leaf("null", None)),
        ("json", JSON, "/c/0/k", None),  # the second one would get its address
        ("properties", PROPERTIES, "/lamp.north/deep/er", text("x")),
    ],
)
def test_what_cannot_be_written_is_refused_with_its_address(format, document, address, leaf):
    with pytest.raises(NotWritable) as caught:
        formats.edit(format, document.encode(), [Edit(address, leaf)])
    assert caught.value.address == address
