"""The planner, the way back, the order and the conflicts: plain data in, plain data out, as tables of cases."""

import json
import random

import pytest

from zinker.jobs.plan.documents import Options, PartCase, PartPlanner
from zinker.jobs.plan.order import in_order, waves
from zinker.jobs.plan.reverse import _Way
from zinker.jobs.translate.view import Original
from zinker.model.difference import Difference
from zinker.model.errors import Damaged
from zinker.model.file_state import FileState
from zinker.model.plan import DocumentChange, SettingChange
from zinker.model.policy import PolicyShape
from zinker.model.profile import Problem
from zinker.model.setting import WITHHELD, Leaf, Setting
from zinker.model.where import Where
from zinker.shelf.record import checked, stamped
from zinker.shelf.record_1 import read_documents
from zinker.stores.home import Home, SteppedWriting
from zinker.stores.kinds import traits_of
from zinker.stores.reading import Reading
from zinker.subjects.subject import Part, Subject


class Plot(Home):
    """A home that is only what a test says of it."""

    def __init__(self, store="file", unfit=(), refuses=None, same=(), there=(), out=()):
        self.traits = traits_of(store)
        self._unfit, self._refuses, self._same = unfit, refuses or {}, dict(same)
        self._there, self._out = there, out

    def documents(self):
        return []

    where = documents

    def has(self, document):
        return document in self._there

    def unfit(self, document):
        return "no such document here" if document in self._unfit else ""

    def format_of(self, document):
        return ""

    def read(self, document):
        raise AssertionError("a planner reads nothing")

    def writing(self):
        return SteppedWriting(lambda change, new: [])

    def refusal(self, document, address):
        return self._refuses.get(address, "")

    def taken_for(self, document):
        return self._same.get(document, document)

    def leads_out(self, document, link):
        return link in self._out

    def instance(self, document):
        return document.partition(".")[0]


ONE, TWO = Leaf("text", "one"), Leaf("text", "two")
MARK = Leaf(WITHHELD, {"key": "k", "mark": "m"})
INI, OTHER = FileState("ini", 9, "a" * 64, "644"), FileState("ini", 8, "b" * 64, "644")
JSON = FileState("json", 9, "c" * 64)
FILE, TOOL = FileState(size=5, sha256="d" * 64, mode="644"), FileState(size=5, sha256="d" * 64, mode="700")
LINK, FOLDER = FileState(link="there"), FileState(is_folder=True)
KEY = FileState(mode="600", key="k", mark="m")
CUT = FileState("ini", mode="644")  # a secret that could not be cut out
BRANCH = FileState("registry")


def heads(before, after):
    """The difference of two opening lines, as a comparison of streams has it."""
    return Difference("p", "d", "", *(state.head("d").leaf if state else None for state in (before, after)))


def planned(live=None, source=None, differing=(), home=None, exact=False, store="file", **more):
    """Plan one document; returns its change, or the reason why it was left alone, or None."""
    part = more.pop("part", None) or Part("p", store, "{home}/d")
    case = PartCase(
        part,
        home or Plot(store),
        "glasshouse",
        {"d": live} if live else {},
        {"d": source} if source else {},
        options=Options(exact=exact, **more.pop("options", {})),
        size_of=lambda sha256: 5,
        **more,
    )
    planner = PartPlanner(case, lambda change: (change, []))
    opening = [heads(live, source)] if (live is None) != (source is None) or (live and live.is_whole) else []
    planner.plan("d", [*opening, *(Difference("p", "d", *setting) for setting in differing)])
    plan = planner.result(0)
    if plan.left:
        assert len(plan.left) == 1 and plan.left[0].why
        return plan.left[0].reason if not plan.documents else (plan.documents[0], plan.left[0].reason)
    return plan.documents[0] if plan.documents else None


CHANGED = [("/a", ONE, TWO)]


@pytest.mark.parametrize(
    ("given", "action"),
    [
        # Files that are taken apart: edited where they are there, whole where they are not.
        ({"live": INI, "source": OTHER, "differing": CHANGED}, ("edit", INI, None, 1)),
        ({"source": OTHER, "differing": [("/a", None, ONE)]}, ("create", None, OTHER, 1)),
        ({"source": OTHER}, ("create", None, OTHER, 0)),
        ({"live": INI, "exact": True, "differing": [("/a", ONE, None)]}, ("remove", INI, None, 1)),
        ({"live": INI, "exact": True, "options": {"keeps_files": True}, "differing": [("/a", ONE, None)]},
         ("edit", INI, None, 1)),
        ({"live": FILE, "source": OTHER, "differing": [("/a", None, ONE)]}, ("replace", FILE, OTHER, 1)),
        # Whole files, links, folders.
        ({"source": FILE}, ("create", None, FILE, 0)),
        ({"live": TOOL, "source": FILE}, ("replace", TOOL, FILE, 0)),
        ({"live": FILE, "source": LINK}, ("replace", FILE, LINK, 0)),
        ({"live": INI, "source": LINK}, ("replace", INI, LINK, 0)),
        ({"live": FOLDER, "exact": True}, ("remove", FOLDER, None, 0)),
        ({"source": KEY, "secrets": {Where("p", "d")}}, ("create", None, KEY, 0)),
        # What is no file: a branch is made and stays; a policy comes and goes; a subtree is always there.
        ({"source": BRANCH, "store": "registry", "differing": [("/a", None, ONE)]}, ("create", None, None, 1)),
        ({"live": BRANCH, "store": "registry", "exact": True, "differing": [("/a", ONE, None)]},
         ("edit", None, None, 1)),
        ({"live": JSON, "store": "tenant", "exact": True, "differing": [("/a", ONE, None)]},
         ("remove", None, None, 1)),
        ({"source": JSON, "store": "tenant"}, ("create", None, None, 0)),
        ({"source": FileState("desktop-db"), "store": "desktop-db", "differing": [("/a", None, ONE)]},
         ("edit", None, None, 1)),
    ],
)  # fmt: skip
def test_what_happens_to_a_document(given, action):
    change = planned(**given)
    assert (change.action, change.before, change.after, len(change.items)) == action
    assert change.count == max(1, len(change.items)) and all(item.address for item in change.items)


@pytest.mark.parametrize(
    ("given", "reason"),
    [
        ({"source": FILE, "home": Plot(unfit=["d"])}, "no-home"),
        ({"source": FILE, "home": Plot(there=["d"])}, "unreadable"),
        ({"source": FILE, "live_problems": [Problem("p", "d", "", "no right")]}, "unreadable"),
        ({"live": FILE, "exact": True, "source_problems": [Problem("p", "d", "", "no right")]}, "unreadable"),
        ({"live": INI, "source": JSON, "differing": CHANGED}, "unfit"),
        ({"live": CUT, "source": OTHER, "differing": CHANGED}, "withheld"),
        ({"source": KEY}, "put-again"),
        ({"live": FILE, "source": KEY}, "withheld"),
        ({"live": INI, "source": FILE}, "unreadable"),
        ({"live": FOLDER, "source": FILE}, "unfit"),
        ({"source": LINK, "home": Plot(out=["there"])}, "unfit"),
        ({"live": INI, "source": OTHER, "differing": [("/a", ONE, MARK)]}, "withheld"),
        ({"live": INI, "source": OTHER, "differing": [("/a", None, MARK)]}, "enter-again"),
        ({"live": INI, "source": OTHER, "differing": [("/a/b", ONE, TWO)],
          "live_problems": [Problem("p", "d", "/a", "odd")]}, "unreadable"),
        ({"live": INI, "source": OTHER, "exact": True, "differing": [("/a", ONE, None)],
          "source_problems": [Problem("p", "d", "/a", "odd")]}, "unreadable"),
        ({"live": BRANCH, "source": BRANCH, "store": "registry", "differing": CHANGED,
          "home": Plot("registry", refuses={"/a": "locked"})}, "refused"),
        ({"live": JSON, "store": "tenant", "exact": True, "differing": [("/a", ONE, None)],
          "home": Plot("tenant", refuses={"/": "built in"})}, "refused"),
    ],
)  # fmt: skip
def test_why_something_is_left_alone(given, reason):
    assert planned(**given) == reason


@pytest.mark.parametrize(
    "given",
    [
        {"live": INI, "source": OTHER, "differing": [("/window/x", ONE, TWO)],
         "part": Part("p", "file", "{home}/d", volatile=("/window/*",))},
        {"live": INI, "source": OTHER, "differing": [("/v", ONE, TWO)], "options": {"version_at": ("p", "/v")}},
        {"live": INI, "source": OTHER, "differing": [("/a", ONE, ONE)]},
    ],
)  # fmt: skip
def test_what_is_not_the_profiles_business_is_not_planned(given):
    assert planned(**given) is None


def test_secrets_that_open_translations_and_moves():
    at = Where("p", "d", "/a")
    change = planned(INI, OTHER, [("/a", ONE, MARK)], secrets={at})
    assert change.items == (SettingChange("/a", ONE, MARK),)
    moved = {at: Original("p", "d", "/old", ONE)}
    change = planned(INI, OTHER, [("/a", None, TWO)], originals=moved)
    assert change.items == (SettingChange("/a", None, TWO, ONE, moved_from="/old"),)
    elsewhere = {at: Original("q", "e", "/old", TWO)}
    assert planned(INI, OTHER, [("/a", None, TWO)], originals=elsewhere).items[0].moved_from == "e: /old"


def test_the_size_a_profile_says_is_not_believed():
    with pytest.raises(Damaged, match="is said to have 1 bytes, and has 5"):
        planned(source=FileState(size=1, sha256="d" * 64))


def test_another_kind_of_device_and_an_instance_that_is_not_here_are_objected_to():
    part = Part("p", "file", "{home}/{instance}.ini", kind="/kind")
    case = PartCase(part, Plot(), "glasshouse", {"east.ini": INI}, {"east.ini": OTHER}, is_own_machine=False)
    planner = PartPlanner(case, lambda change: (change, []))
    planner.plan("east.ini", [Difference("p", "east.ini", "/kind", ONE, TWO)])
    planner.plan("west.ini", [heads(None, OTHER)])
    assert [objection.option for objection in planner.result(0).objections] == ["other-device"]
    case = case._replace(source={"west.ini": OTHER})
    planner = PartPlanner(case, lambda change: (change, []))
    planner.plan("west.ini", [heads(None, OTHER)])
    assert [objection.option for objection in planner.result(0).objections] == ["new-instance"]


def reading(state, leaves=None):
    return Reading("d", state.format, leaves or {}, file=state)


def back(action, live, items=CHANGED, before=None, after=None, old=None, store="file", opens=()):
    """The way back from a change: what is planned, or why it is left as it is."""
    done = DocumentChange(
        "p", "d", action, tuple(SettingChange(*item) for item in items), before, after, new_folders=2
    )
    head = before.head("d") if before else None
    kept = {"": head, **(old or {})} if head else dict(old or {})
    way = _Way(done, traits_of(store), live, kept, frozenset(opens))
    plan = way.back(lambda document: 1)
    return plan, [left.reason for left in way.left]


@pytest.mark.parametrize(
    ("given", "action", "reasons"),
    [
        # Nobody has touched it: it comes back as a whole.
        (("edit", reading(OTHER, {"/a": TWO}), CHANGED, INI, OTHER), "replace", []),
        (("create", reading(OTHER), [("/a", None, TWO)], None, OTHER), "remove", []),
        (("remove", None, [("/a", ONE, None)], INI, None), "create", []),
        (("replace", reading(TOOL), [], FILE, TOOL), "replace", []),
        # It is as it was before already.
        (("edit", reading(INI, {"/a": ONE}), CHANGED, INI, OTHER), None, []),
        # Somebody has changed it since: setting by setting, where that is still what the change wrote.
        (("edit", reading(JSON, {"/a": TWO, "/b": ONE}), CHANGED, INI, OTHER), "edit", []),
        (("edit", reading(JSON, {"/a": Leaf("text", "mine")}), CHANGED, INI, OTHER), None, ["changed-since"]),
        (("replace", reading(JSON), [], FILE, TOOL), None, ["changed-since"]),
        # A secret has been entered since into what the change made.
        (("create", reading(OTHER, {"/p": MARK}), [("/a", None, TWO)], None, OTHER), None, ["changed-since"]),
        # What was sealed in for another machine does not open.
        (("remove", None, [("/a", MARK, None)], INI, None), "create", ["withheld"]),
        (("remove", None, [], KEY, None), None, ["withheld"]),
        (("edit", reading(CUT), CHANGED, INI, OTHER), None, ["unreadable"]),
    ],
)
def test_the_way_back_from_a_file(given, action, reasons):
    plan, left = back(*given)
    assert (plan.action if plan else None, left) == (action, reasons)
    if action in ("create", "replace"):
        assert plan.after == given[3] and plan.source == given[3].sha256


def test_the_way_back_where_there_are_no_files():
    branch = Reading("d", "registry", {"/K/A": TWO})
    plan, _ = back("create", branch, [("/K/A", None, TWO)], store="registry")
    assert plan.action == "remove" and plan.items == (SettingChange("/K/A", TWO, None),)
    # A key that was empty is empty again, after everything else; case does not count.
    empty = {"/K/": Setting("d", "/K/", "key", None)}
    plan, _ = back("edit", branch, [("/k/a", None, TWO)], store="registry", old=empty)
    assert [item.address for item in plan.items] == ["/k/a", "/K/"] and plan.items[1].after.type == "key"
    # A policy that went is made again, with all that it had.
    plan, _ = back("remove", None, [("/a", ONE, None)], store="tenant")
    assert plan.action == "create" and plan.items == (SettingChange("/a", None, ONE),)


def policies(*pairs, action="create"):
    """Changes of policies: `pairs` of a name and those that it refers to."""
    return [
        DocumentChange("p", name, action, (SettingChange("/uses", None, Leaf("list", list(others))),))
        for name, others in pairs
    ]


USES = Part("p", "tenant", "Things", policy=PolicyShape(references={"/uses": "Things"}))
SUBJECT = Subject(1, "things", "Things", (USES, Part("f", "file", "{home}/f")))


def test_policies_come_after_what_they_refer_to_and_go_before_it():
    come = in_order(SUBJECT, policies(("a", "b"), ("b", "c"), ("c", "")))
    assert [change.document for change in come] == ["c", "b", "a"]
    gone = [
        DocumentChange(
            "p", c.document, "remove", tuple(SettingChange(i.address, i.after, None) for i in c.items)
        )
        for c in policies(("a", "b"), ("b", ""))
    ]
    assert [change.document for change in in_order(SUBJECT, gone)] == ["a", "b"]
    # In a circle, what closes it is a change of its own.
    circle = in_order(SUBJECT, policies(("a", "b"), ("b", "a")))
    assert [(c.document, c.action, len(c.items)) for c in circle] == [
        ("b", "create", 0), ("a", "create", 1), ("b", "edit", 1)
    ]  # fmt: skip


def test_5000_policies_in_a_chain_have_an_order():
    names = [f"{number:04}" for number in range(5000)]
    chain = policies(*((name, [other]) for name, other in zip(names, [*names[1:], ""], strict=True)))
    random.Random(3).shuffle(chain)
    ordered = in_order(SUBJECT, chain)
    assert [change.document for change in ordered] == names[::-1]
    assert [len(wave) for wave in waves(SUBJECT, ordered)] == [1] * 5000


def test_what_knows_nothing_of_each_other_is_written_together():
    plain = [*policies(*((f"{number}", "") for number in range(100))), DocumentChange("f", "f", "edit")]
    assert [len(wave) for wave in waves(SUBJECT, plain)] == [64, 36, 1]


def test_a_record_of_format_1_is_read_and_a_flipped_bit_of_format_2_is_not():
    sha256 = "a" * 64
    old = [
        {
            "part": "p",
            "document": "d",
            "action": "replace",
            "items": [
                {
                    "address": "",
                    "before": ["whole", {"size": 3, "sha256": sha256, "mode": "644"}],
                    "after": ["whole", {"link": "x"}],
                }
            ],
            "expected": f"{sha256}:644",
            "result": "link:x",
        },
        {
            "part": "r",
            "document": "k",
            "action": "edit",
            "items": [
                {"address": "", "before": None, "after": ["document", {"format": "registry"}]},
                {"address": "/a", "before": None, "after": ["dword", 1]},
            ],
        },
    ]
    file, branch = read_documents(json.dumps(old).encode())
    assert (file.action, file.items) == ("replace", ())
    assert file.before == FileState(size=3, sha256=sha256, mode="644") and file.after == FileState(link="x")
    assert (branch.action, len(branch.items), branch.after) == ("create", 1, None)
    record = stamped({"format": 2, "change": 7})
    assert checked(record, dict) == {"format": 2, "change": 7}
    for bit in range(8 * len(record.rstrip(b"\n"))):
        flipped = bytearray(record)
        flipped[bit // 8] ^= 1 << bit % 8
        with pytest.raises(ValueError):
            checked(bytes(flipped), dict)


def test_of_names_that_a_system_takes_for_the_same_one_is_written():
    home = Plot(same=[("D", "d"), ("E", "e")])
    new = dict.fromkeys(("D", "E", "d"), FILE)
    case = PartCase(
        Part("p", "file", "{home}/*"),
        home,
        "glasshouse",
        {"e": FILE},
        new,
        options=Options(),
        size_of=lambda sha256: 5,
    )
    planner = PartPlanner(case, lambda change: (change, []))
    for name in new:
        planner.plan(name, [Difference("p", name, "", None, FILE.head(name).leaf)])
    plan = planner.result(0)
    assert [change.document for change in plan.documents] == ["D"]
    assert [(one.document, one.why.partition(" ")[0]) for one in plan.left] == [("E", "e"), ("d", "D")]
