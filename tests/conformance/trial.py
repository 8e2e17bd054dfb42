"""One document tried: read, edited in many ways, and each time looked at by the reference."""

import copy
import re
from collections import Counter
from collections.abc import Iterable
from dataclasses import dataclass, field

from conformance.judges import Refused, moment, number, seen
from conformance.suites import Case

from zinker import formats
from zinker.formats.leaves import Edit
from zinker.model.address import pointer, tokens
from zinker.model.errors import DocumentError, NotWritable
from zinker.model.setting import Leaf


@dataclass
class Tally:
    """What came of all documents of a suite."""

    counts: Counter = field(default_factory=Counter)
    wrong: list[str] = field(default_factory=list)
    why: Counter = field(default_factory=Counter)

    def note(self, kind: str, why: str = "") -> None:
        self.counts[kind] += 1
        if why:
            self.why[kind, re.sub(r"\d+|'[^']*'", "…", why)] += 1

    def spoilt(self, case: Case, what: str) -> None:
        self.counts["wrong"] += 1
        self.wrong.append(f"{case.name}: {what}"[:400])

    @property
    def line(self) -> str:
        """What came of it, as cells of a table."""
        counts = self.counts
        wrong_ones = f"{counts['refused']}, {counts['taken']}"
        cells = (counts["files"], counts["read"], counts["refused right"], wrong_ones, counts["edited"])
        return " | ".join(map(str, (*cells, counts["left alone"], counts["wrong"] + counts["crash"])))


def tried_all(cases: Iterable[Case], most: int = 4) -> Tally:
    """Try documents, change and remove that many settings of each; whatever is raised is a crash."""
    tally = Tally()
    for case in cases:
        try:
            tried(case, tally, most)
        except Exception as error:  # noqa: BLE001 - what must not happen
            tally.counts["crash"] += 1
            tally.wrong.append(f"{case.name}: {type(error).__name__}: {error}")
    return tally


def tried(case: Case, tally: Tally, most: int) -> None:
    """Read one document, edit it in many ways, and have the reference look at each."""
    tally.note("files")
    try:
        before = seen(case.judge, case.data)
    except Refused as error:
        before = None
        refusal = str(error)
    try:
        leaves = formats.read(case.format, case.data, case.dialect)
    except DocumentError as error:
        is_right = before is not None and case.is_right is not False
        tally.note("refused right" if is_right else "refused", str(error) if is_right else "")
        return
    if case.is_right is False:
        tally.note("taken", case.name)
        return
    if before is None:
        tally.note("unjudged", refusal)
        return
    if before.tree[0] == "element":
        tally.note("read")
    else:
        mine, other = dict(leaves_as_pairs(leaves)), dict(pairs_of(before.tree))
        if case.format in ("ini", "properties"):  # of a key that comes again, others see the last
            mine = dict(last_ones(mine))
        mine.pop("", None), other.pop("", None)  # a document with nothing in it
        if mine != other:
            odd = [k for k in {**mine, **other} if mine.get(k) != other.get(k)][:3]
            tally.spoilt(case, f"read {[(k, mine.get(k), other.get(k)) for k in odd]}")
            return
        tally.note("read")
    if any(address.count("/") > 100 for address in leaves):
        tally.note("deep")  # deeper than the reference can be asked about
        return
    those = single_ones(leaves) if case.format in ("ini", "properties") else leaves
    for edit in edits_of(those, before.tree, most):
        one_edit(case, before, edit, leaves, tally)


def one_edit(case, before, edit, leaves, tally):
    try:
        data = formats.edit(case.format, case.data, [edit], case.dialect)
    except NotWritable as error:
        tally.note("left alone", error.why)
        return
    what = f"{edit.address} -> {edit.leaf and (edit.leaf.type, edit.leaf.value)}: "
    try:
        after = seen(case.judge, data)
    except Refused as error:
        tally.spoilt(case, f"{what}the reference refuses it: {error}: {data[:200]!r}")
        return
    if before.tree[0] == "element":
        expected, found = edit_of_element(before.tree, after.tree, edit)
    else:
        expected, found = normal(changed(before.tree, edit)), normal(after.tree)
    if expected != found:
        tally.spoilt(case, f"{what}{data[:200]!r}")
        return
    lost = Counter(before.comments) - Counter(after.comments)
    is_shorter = edit.leaf and edit.leaf.type == "list" and edit.leaf.value[-1] != "an item"
    if lost and edit.leaf is not None and not is_shorter:
        tally.spoilt(case, f"{what}lost {list(lost)[:2]}: {data[:200]!r}")
        return
    tally.note("edited")


def edits_of(leaves, tree, most):
    addresses = sorted(leaves)
    step = max(1, len(addresses) // most)
    for address in addresses[::step][:most]:
        # A key file says of itself that it is UTF-8.
        other = None if address.endswith("/Encoding") else _other(leaves[address])
        if other is not None:
            yield Edit(address, other)
        if other is not None and other.type == "list":
            items = leaves[address].value
            yield Edit(address, Leaf("list", items[1:] or ["one", *items]))
        is_mark = leaves[address].type == "object" and any(a.startswith(address + "/") for a in leaves)
        if not is_mark and not _is_followed(address, leaves):
            yield Edit(address, None)
    if tree[0] == "map":
        depth_two = any(below[0] == "map" for below in tree[1].values())
        is_flat = not any(below[0] in ("map", "list") for below in tree[1].values())
        if "added by us" not in tree[1]:
            yield Edit(
                "/added by us/key" if depth_two and not is_flat else "/added by us", Leaf("text", "new: #1")
            )
        holder = next((n for n, below in tree[1].items() if below[0] == "map" and below[1]), None)
        if holder is not None and "key" not in dict(tree[1])[holder][1]:
            yield Edit(pointer(holder, "key"), Leaf("text", "yes"))
    elif tree[0] == "element" and leaves:
        top = tokens(addresses[0])[0]
        yield Edit(pointer(top, "added-by-us"), Leaf("text", "new & <1>"))
        yield Edit(pointer(top, "@added-by-us"), Leaf("text", 'new & "1"'))


def _is_followed(address, leaves):
    """Tell whether something stands behind an item of a list, or its holder, and would move up without it."""
    path = tokens(address)
    for depth, token in enumerate(path):
        found = re.fullmatch(r"(\d+)|([^\[\]]+)(?:\[(\d+)\])?", token)
        if found is None:
            continue
        following = str(int(found[1]) + 1) if found[1] else f"{found[2]}[{int(found[3] or 1) + 1}]"
        following = pointer(*path[:depth], following)
        if any(other == following or other.startswith(f"{following}/") for other in leaves):
            return True
    return False


def _other(leaf):
    kind, value = leaf.type, leaf.value
    if kind == "text":
        return Leaf("text", "Other: text" if value != "Other: text" else "text")
    if kind == "int":
        return Leaf("int", 7 if value != 7 else 8)
    if kind == "float":
        return Leaf("float", 2.25 if value != 2.25 else 3.5)
    if kind == "bool":
        return Leaf("bool", not value)
    if kind == "null":
        return Leaf("text", "no longer null")
    if kind == "bytes":
        return Leaf("bytes", "AAEC")
    if kind == "date":
        return Leaf("date", f"2031{value[4:]}" if value[4:5] == "-" else f"21{value[2:]}")
    if kind == "list" and value:
        return Leaf("list", [*value[:-1], "other", "an item"])
    return None


def is_plain(tree):
    return tree[0] in ("text", "bool", "null", "int", "float") and not (
        tree[0] == "float" and ("n" in tree[1]) or tree[0] == "int" and abs(tree[1]) > 2**53
    )


def pairs_of(tree, address=""):
    kind = tree[0]
    if kind in ("tagged", "standard") and tree[2][0] in ("map", "list"):
        yield from pairs_of(tree[2], address)
    elif kind == "map" and tree[1]:
        if address and all(
            name.isascii() and name.isdigit() and (name == "0" or name[0] != "0") for name in tree[1]
        ):
            yield address, ("object", {})
        for name, below in tree[1].items():
            yield from pairs_of(below, address + pointer(name))
    elif kind == "list" and tree[1] and not (address and all(map(is_plain, tree[1]))):
        for number, below in enumerate(tree[1]):
            yield from pairs_of(below, f"{address}/{number}")
    elif kind == "map":
        yield address, ("object", {})
    elif kind == "list":
        yield address, ("list", [value(item) for item in tree[1]])
    elif kind in ("tagged", "standard"):
        yield address, ("tagged", None)
    else:
        yield address, value(tree)


def value(tree):
    if tree[0] == "alias":
        return "alias", tree[1]
    return tree if len(tree) > 1 else (tree[0], None)


def single_ones(leaves):
    """Return the settings without keys that stand in a section more than once."""
    again = {address.rpartition("/")[0] for address in leaves if address.endswith("/2")} & leaves.keys()
    return {a: leaf for a, leaf in leaves.items() if a not in again and a.rpartition("/")[0] not in again}


def last_ones(pairs):
    for address, value in pairs.items():
        base, _, number = address.rpartition("/")
        yield (base if number.isdigit() and int(number) > 1 and base in pairs else address), value


def leaves_as_pairs(leaves):
    for address, leaf in leaves.items():
        if leaf.type == "list":
            kinds = {str: "text", bool: "bool", int: "int", type(None): "null"}
            items = [
                number("float", repr(item)) if isinstance(item, float) else (kinds[type(item)], item)
                for item in leaf.value
            ]
            yield address, ("list", items)
        elif leaf.type == "float":
            yield address, number("float", str(leaf.value))
        elif leaf.type == "int":
            yield address, ("int", int(leaf.value))
        elif leaf.type == "date":
            yield address, ("date", moment(leaf.value))
        elif leaf.type == "tagged":
            yield address, ("tagged", None)
        else:
            yield address, (leaf.type, leaf.value)


def changed(tree, edit):
    """Return the reference's tree with an edit made."""
    tree = copy.deepcopy(tree)
    path = tokens(edit.address)
    chain = [tree]
    for token in path[:-1]:
        holder = untagged(chain[-1])
        if holder[0] == "list":
            chain.append(holder[1][int(token)])
        else:
            chain.append(holder[1].setdefault(token, ("map", {})))
    holder, last = untagged(chain[-1]), path[-1]
    if edit.leaf is None:
        if holder[0] == "list":
            del holder[1][int(last)]
        else:
            del holder[1][last]
        return tree
    new = dict(leaves_as_pairs({"": edit.leaf}))[""]
    new = new if new[1] is not None else new[:1]
    old = holder[1][int(last)] if holder[0] == "list" else holder[1].get(last, new)
    if new[0] == "list" and old is not untagged(old):
        new = (*old[:2], new)  # a list keeps what it is said to be
    if holder[0] == "list":
        holder[1][int(last)] = new
    else:
        holder[1][last] = new
    return tree


def untagged(tree):
    return tree[2] if tree[0] in ("tagged", "standard") else tree


def normal(tree):
    """Return a tree without what is empty: a map that loses all may go, or stay."""
    if tree[0] == "map":
        below = {name: normal(one) for name, one in tree[1].items()}
        return "map", {name: one for name, one in below.items() if one not in (("map", {}), ("list", []))}
    if tree[0] in ("tagged", "standard"):
        below = normal(tree[2])
        return below if below in (("map", {}), ("list", [])) else (tree[0], tree[1], below)
    if tree[0] == "null":
        return ("null",)
    if tree[0] == "list":
        below = [normal(one) for one in tree[1]]
        return "list", [one for one in below if one not in (("map", {}), ("list", []))]
    return tree


def edit_of_element(before, after, edit):
    """Return what is asked for, and what has changed, between two documents of XML."""
    found = list(differences(before, after))
    if edit.leaf is None:
        return True, len(found) == 1 and found[0][1] in (None, "")
    return [edit.leaf.value], [new for _, new in found]


def differences(old, new):
    if isinstance(old, tuple) and isinstance(new, tuple) and old[1] == new[1]:
        _, _, mine, inside = old
        _, _, others, within = new
        for name in {**mine, **others}:
            if mine.get(name) != others.get(name):
                yield mine.get(name), others.get(name)
        mine = [one for one in inside if not isinstance(one, str)]
        others = [one for one in within if not isinstance(one, str)]
        if mine and not others and not "".join(within):  # mixed content that is removed
            yield "".join(t for t in inside if isinstance(t, str)), ""
            return
        texts, other_texts = ("".join(t for t in side if isinstance(t, str)) for side in (inside, within))
        if texts.strip() != other_texts.strip() or (not mine and not others and texts != other_texts):
            yield texts, other_texts
        if len(mine) == len(others):
            for a, b in zip(mine, others, strict=True):
                yield from differences(a, b)
            return
        short, long = sorted((mine, others), key=len)
        at = next((n for n, (a, b) in enumerate(zip(short, long, strict=False)) if a != b), len(short))
        extra = long[at : at + len(long) - len(short)]
        if long[:at] + long[at + len(extra) :] != short:
            yield old, new
        for one in extra:
            text = "".join(t for t in one[3] if isinstance(t, str))
            yield (text, None) if long is mine else (None, text)
    elif old != new:
        yield old, new
