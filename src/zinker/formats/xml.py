"""XML documents: what elements say in text is `/root/element`, an attribute `/root/element/@name`.

Elements of the same tag below the same parent are told apart by a naming attribute, `item[@name="top"]`, and
where that does not do it by their number, `item[2]`, both as in XPath 1.0. Which attributes name is the
dialect's `named_by`. An element with text between its children is one setting of the type `xml`, its markup.
Declaration, document type, comments, name-space prefixes and white space stay as they are and are no settings.
"""

import re
from collections import Counter
from collections.abc import Iterable, Iterator, Sequence

from zinker.formats.dialect import PLAIN, Dialect
from zinker.formats.leaves import Edit, Leaves
from zinker.formats.splicing import Additions, Node, Splice, edit_text
from zinker.formats.text import back
from zinker.formats.xml_tree import (
    Element,
    attribute_span,
    beside_comments,
    decode_xml,
    escaped,
    indentation,
    parse,
    unbound,
)
from zinker.model.address import pointer, tokens
from zinker.model.errors import NotWritable
from zinker.model.setting import Leaf

_STEP = re.compile(r"([^\[\]/@\s]+)(?:\[(.*)\])?\Z", re.DOTALL)
_TEST = re.compile(r"""(?:([^\s@="']+)/)?@([^\s="'\]]+)=("[^"]*"|'[^']*')(?: and |\](?=\[)|\Z)""")
_NUMBER = re.compile(r"\[(\d+)\]\Z")
_NAME = re.compile(r"[^\W\d][\w.-]*(?::[^\W\d][\w.-]*)?\Z")


def read(data: bytes, dialect: Dialect = PLAIN) -> Leaves:
    """Return the settings of an XML document by address; raises `DocumentError`."""
    text = decode_xml(data, dialect.encoding).characters
    root = parse(text)
    found: Leaves = {}
    waiting: list[tuple[str, Element, Sequence[str]]] = [(pointer(root.tag), root, ())]
    while waiting:
        address, element, named = waiting.pop()
        before = len(found)
        for name, value in element.attributes.items():
            if name not in named and not _is_namespace(name):
                found[address + pointer(f"@{name}")] = Leaf("text", value)
        if element.is_mixed:
            found[address] = Leaf("xml", text[element.inner : element.close])
        elif element.children:
            below = [(address + pointer(step), child, own) for step, child, own in _steps(element, dialect)]
            waiting += reversed(below)
        elif element.text.strip() or (len(found) == before and element is not root):
            found[address] = Leaf("text", element.text)
    return found


def edit(data: bytes, edits: Sequence[Edit], dialect: Dialect = PLAIN) -> bytes:
    """Return the document with the edits made; everything else stays as it is."""
    text = decode_xml(data, dialect.encoding)
    writer = _Writer(dialect)
    made = [Edit(_inside(change.address), change.leaf) for change in edits]
    try:
        edited = edit_text(text.characters, made, writer)
    except NotWritable as error:
        raise NotWritable(error.address.removesuffix("/"), error.why) from None
    prefixed = next((one.address for one in edits if one.leaf is not None and ":" in one.address), "")
    if prefixed and unbound(edited) and not unbound(text.characters):
        raise NotWritable(prefixed, "its prefix is not declared where it would stand")
    return text.encode(edited, edits[0].address)


def _inside(address: str) -> str:
    """Return the address by which the tree has the text of an element: that of a child without a name."""
    return address if tokens(address)[-1].startswith("@") else f"{address}/"


def _is_namespace(name: str) -> bool:
    return name == "xmlns" or name.startswith("xmlns:")


def _tests(element: Element, key: str) -> list[tuple[str, str, str]]:
    """Return child, attribute and value for every piece of a naming key, or nothing where one is missing."""
    tests = []
    for piece in key.split("+"):
        child, _, name = piece.strip().rpartition("/@")
        holders = [e for e in element.children if e.tag == child] if child else [element]
        value = next((e.attributes[name] for e in holders if name in e.attributes), None)
        if value is None or ('"' in value and "'" in value):
            return []
        tests.append((child, name, value))
    return tests


def _steps(parent: Element, dialect: Dialect) -> Iterator[tuple[str, Element, Sequence[str]]]:
    """Yield the children of an element with the step that leads to each, and the attributes that name it.

    Those are no settings for that reason.
    """
    # What has no attributes has no name but where that is given by what is in it.
    is_by_child = any("/@" in key for key in dialect.named_by)
    count: Counter[str] = Counter()
    for child in parent.children:
        step, named = child.tag, []
        if child.attributes or is_by_child:
            tests = next(filter(None, (_tests(child, key) for key in dialect.named_by)), [])
            if tests:
                step = f"{child.tag}[{' and '.join(_test(*test) for test in tests)}]"
                named = [name for holder, name, _ in tests if not holder]
        count[step] += 1
        yield (step if count[step] == 1 else f"{step}[{count[step]}]"), child, named


def _test(child: str, name: str, value: str) -> str:
    quote = "'" if '"' in value else '"'
    return f"{child + '/' if child else ''}@{name}={quote}{value}{quote}"


class _Writer:
    fixed = 2

    def __init__(self, dialect: Dialect) -> None:
        self._dialect = dialect

    def parse(self, text: str) -> Node:
        element = parse(text)
        top = Node(element.start, element.end, {}, own=element)
        waiting: list[tuple[Node, Sequence[str]]] = [(top, ())]
        while waiting:
            node, named = waiting.pop()
            element = node.own
            children = node.children = {}
            for name in element.attributes:
                if name not in named and not _is_namespace(name):
                    children[f"@{name}"] = Node(0, 0, own=(element, name))
            if element.is_mixed or not element.children:
                if element.is_mixed or element.text.strip() or (not children and node is not top):
                    children[""] = Node(element.inner, element.close, own=(element, ""))
                continue
            for step, child, named in _steps(element, self._dialect):
                children[step] = Node(child.start, child.end, {}, own=child)
                waiting.append((children[step], named))
        # The element that holds everything is the only one at its level, and is never removed.
        return Node(0, len(text), {top.own.tag: top})

    def replace(self, text: str, node: Node, leaf: Leaf, address: str) -> Iterable[Splice]:
        holder, name = node.own
        if name:
            _, start, end = attribute_span(text, holder, name)
            yield Splice(start, end, escaped(_text(leaf, address), address, text[start - 1]))
        elif leaf.type == "xml" or holder.is_mixed:
            if leaf.type != "xml" or holder.is_closed:
                raise NotWritable(address, "something else stands there, with another structure")
            yield Splice(holder.inner, holder.close, leaf.value)
        else:
            yield from _with_text(text, holder, _text(leaf, address), address)

    def insert(
        self, text: str, path: tuple[str, ...], node: Node, new: Additions, last: Node | None
    ) -> Iterable[Splice]:
        holder: Element = node.own
        address = pointer(*path)
        if holder is None or holder.is_mixed:
            raise NotWritable(pointer(*path, next(iter(new))), "a document has one outermost element")
        if "" in (node.children or {}) and holder.text.strip() and not all(n[:1] == "@" for n in new):
            raise NotWritable(
                pointer(*path, next(iter(new))), "something else stands there, with another structure"
            )
        attributes = "".join(
            f' {name[1:]}="{escaped(_text(leaf, address), address, chr(34))}"'
            for name, leaf in new.items()
            if name.startswith("@")
        )
        before, after = indentation(text, holder)
        own = "".join(
            before + self._element((*path, name), name, below, before) for name, below in _in_order(new)
        )
        inner = escaped(_text(new[""], address), address) if "" in new else ""
        if attributes:
            at = back(text, holder.inner - (2 if holder.is_closed else 1))
            yield Splice(at, at, attributes)
        if not own and not inner:
            return
        if holder.is_closed:
            slash = holder.inner - 2
            yield Splice(slash, holder.inner, f">{inner}{own}{after if own else ''}</{holder.tag}>")
        elif holder.children:
            at = holder.children[-1].end
            yield Splice(at, at, own)
        else:
            inside = text[holder.inner : holder.close]
            yield Splice(
                holder.inner, holder.close, beside_comments(inside, inner) + own + (after if own else "")
            )

    def _element(self, path: tuple[str, ...], step: str, below: Additions | Leaf, before: str) -> str:
        """Return a new element with all that is in it, indented below its parent."""
        address = pointer(*path)
        tag, tests = _taken_apart(step, address)
        if isinstance(below, Leaf):
            below = Additions({"": below})
        given = {name: value for child, name, value in tests if not child}
        own = {name[1:]: _text(leaf, address) for name, leaf in below.items() if name.startswith("@")}
        if not all(_NAME.match(name) for name in own):
            raise NotWritable(address, "its name cannot be written in XML")
        start = tag + "".join(f' {k}="{escaped(v, address, chr(34))}"' for k, v in {**given, **own}.items())
        step_in = "  " if "\n" in before else ""
        inner = "".join(
            before + step_in + self._element((*path, name), name, deeper, before + step_in)
            for name, deeper in _in_order(below)
        )
        if inner:
            return f"<{start}>{inner}{before}</{tag}>"
        leaf = below.get("")
        if leaf is not None and leaf.type == "xml":
            return f"<{start}>{leaf.value}</{tag}>"
        value = escaped(_text(leaf, address), address) if leaf is not None else ""
        return f"<{start}>{value}</{tag}>" if value else f"<{start}/>"

    def remove(self, text: str, path: tuple[str, ...], node: Node, names: Sequence[str]) -> Iterable[Splice]:
        holder: Element = node.own
        if holder is None:
            raise NotWritable(pointer(*path, names[0]), "the outermost element of a document stays")
        for name in names:
            child = (node.children or {})[name]
            if name.startswith("@"):
                start, _, end = attribute_span(text, *child.own)
                yield Splice(start, end + 1, "")
            elif not name:
                inside = "" if holder.is_mixed else text[holder.inner : holder.close]
                yield Splice(holder.inner, holder.close, beside_comments(inside, ""))
            else:
                start = back(text, child.start)
                # What stands before it in its own line is not its indentation.
                yield Splice(start if text[start - 1 : start] == ">" else child.start, child.end, "")


def _in_order(new: Additions) -> list[tuple[str, Additions]]:
    """Return the elements among additions, the second of its kind behind the first."""
    elements = [(name, below) for name, below in new.items() if name and not name.startswith("@")]
    return sorted(elements, key=lambda item: int(n[1]) if (n := _NUMBER.search(item[0])) else 1)


def _with_text(text: str, holder: Element, value: str, address: str) -> Iterator[Splice]:
    written = escaped(value, address)
    if holder.is_closed:
        if written:
            yield Splice(holder.inner - 2, holder.inner, f">{written}</{holder.tag}>")
        return
    whole = text[holder.inner : holder.close]
    if whole.startswith("<![CDATA[") and whole.find("]]>") == len(whole) - 3 and "]]>" not in value:
        written = f"<![CDATA[{value}]]>"
    yield Splice(holder.inner, holder.close, beside_comments(whole, written))


def _text(leaf: Leaf | Additions, address: str) -> str:
    if not isinstance(leaf, Leaf) or leaf.type != "text":
        kind = leaf.type if isinstance(leaf, Leaf) else "structure"
        raise NotWritable(address, f"XML holds text there, not {kind}")
    value: str = leaf.value
    return value


def _taken_apart(step: str, address: str) -> tuple[str, list[tuple[str, str, str]]]:
    """Return the tag of a step, and what its tests say about attributes; a number is left out."""
    found = _STEP.match(step)
    if not found or not _NAME.match(found[1]):
        raise NotWritable(address, "its name cannot be written in XML")
    tests, inside, at = [], found[2] or "", 0
    while at < len(inside):
        test = _TEST.match(inside, at)
        if not test:
            if re.fullmatch(r"\[?\d+", inside[at:]):
                break
            raise NotWritable(address, "its name cannot be written in XML")
        tests.append((test[1] or "", test[2], test[3][1:-1]))
        at = test.end()
    return found[1], tests
