"""Drafts of subject files: a commented text to go on from."""

from typing import NamedTuple

from zinker.model.policy import PolicyShape


class DraftPart(NamedTuple):
    """A part to begin with: its name, its path and its format; what is volatile, secret, and to be titled."""

    id: str
    path: str
    format: str
    store: str = "file"
    volatile: tuple[str, ...] = ()
    titles: tuple[str, ...] = ()
    secret: tuple[str, ...] = ()
    # Of a collection of policies: what its service says of them, and the choices that properties of it have.
    policy: PolicyShape | None = None
    choices: tuple[tuple[str, tuple[str, ...]], ...] = ()
    # What of a folder is in other parts, or in none; whether it is valid on one machine only; where the application
    # writes its own version; and how it is known that something changes by itself.
    without: tuple[str, ...] = ()
    device_bound: bool = False
    version: str = ""
    is_seen: bool = False


_HEAD = """\
# A subject file: what belongs together, and where it lives. docs/reference.md explains every key;
# `zinker subjects check FILE` says what is wrong, `zinker subjects show {id}` what is found.
format = 1
id = "{id}"                                # the name in commands, and of this file
title = "{title}"

[application]
{processes}# its programs, so that an import waits until they are closed
{version}# where it writes its own version
# compatible = "same-major"                # any, same-major, same-minor, exact
# needs = [ {{ path = "{{program}}/APPLICATION/plugin", says = "the plug-in" }} ]
"""

_PART = """
[[part]]
id = "{id}"
title = "{title}"
store = "{store}"
path = "{path}"
# path = ["{{config}}/new/place", "{{home}}/.old-place"]      # the first that exists
# path = {{ linux = "...", windows = "...", macos = "..." }}  # another one on each system
{format}{without}{bound}# valid on one machine only, as a licence is
{volatile}
{secret}
# not_secret = ["/keys/*"]                 # what only looks like one
{titles}"""

_VOLATILE = (
    '# volatile = ["/window/*"]                 # changes by itself: left out of comparisons and imports'
)
_WITHHELD = (
    '# secret = ["/account/token"]              # withheld; passwords and tokens are found without it, too'
)
_TITLES = """\
# [part.titles]
# "/section/key" = "What people call this setting"
"""

_LOOKS = "# without it, Zinker looks for itself\n"
_NO_VERSION = '# version = { part = "PART", address = "/about/version" }'
_WHY_VOLATILE = {True: "changes by itself, as was seen", False: "changes by itself, as these are called"}
_LONGEST = 40
# What is in no other part of a folder.
OTHERS = "others"


def part_id(name: str, number: int) -> str:
    """Return what a part may be called after a file, a folder or a key; the `number` where that has no letters."""
    plain = "".join(c if c.isascii() and c.isalnum() else "-" for c in name.lower()).strip("-")
    return plain[:_LONGEST].rstrip("-") or f"part-{number}"


def named_apart(parts: list[DraftPart]) -> list[DraftPart]:
    """Return parts of which no two have the same name."""
    names: dict[str, int] = {}
    found = []
    for part in parts:
        names[part.id] = count = names.get(part.id, 0) + 1
        found.append(part if count == 1 else part._replace(id=f"{part.id}-{count}"))
    return found


def draft(id: str, parts: list[DraftPart], processes: tuple[str, ...] = ()) -> str:
    """Return the text of a draft; without parts, with one to fill in. `processes` are programs that were seen."""
    title = id.replace("-", " ").capitalize()
    chosen = named_apart(parts) or [DraftPart("general", f"{{config}}/{id}/{id}.ini", "ini")]
    listed = ", ".join(f'"{_escaped(name)}"' for name in processes)
    versions = [
        f'{{ part = "{one.id}", address = "{_escaped(one.version)}" }}' for one in chosen if one.version
    ]
    version = f"version = {versions[0]}" if versions else _NO_VERSION
    texts = [
        _HEAD.format(id=id, title=title, processes=_wide(f"processes = [{listed}]"), version=_wide(version))
    ]
    for part in chosen:
        own = part.id
        if part.policy is not None:
            texts.append(_policies(own, part, part.policy))
            continue
        texts.append(
            _PART.format(
                id=own,
                title=own.replace("-", " ").capitalize(),
                store=part.store,
                path=_escaped(part.path),
                format=_wide(f'format = "{part.format}"') + _LOOKS if part.format else "",
                without=_listed("without", part.without, "in other parts, or made again by itself", "\n"),
                bound=_wide(f"{'' if part.device_bound else '# '}device_bound = true"),
                volatile=_listed("volatile", part.volatile, _WHY_VOLATILE[part.is_seen]) or _VOLATILE,
                secret=_listed("secret", part.secret, "withheld, as these look like secrets") or _WITHHELD,
                titles=_titles(part),
            )
        )
    return "".join(texts)


_POLICIES = """
[[part]]
id = "{id}"
title = "{title}"
store = "tenant"
path = "{path}"
# not_secret = ["/terms/*"]                # what only looks like a secret

[part.policy]
name = "{name}"{space}# what people call a policy by: a guess
{lines}# built_in = "fixed"                       # true for what cannot be changed
# write_only = ["doorKey"]                 # secrets that are never given back
# keys = {{ "/terms" = "topic" }}            # lists without order, and what tells their items apart
# groups = ["/forWhom/*/group"]            # ids of groups; `users` of users
# for_whom = ["/forWhom", "/forWhom/*"]    # for whom it counts: written with --for-whom only
# one_by_one = true                        # where the service's lists do not hold policies whole
"""


def _policies(id: str, part: DraftPart, shape: PolicyShape) -> str:
    """Return a part with the policies of a collection, as its service describes them."""
    ids = ", ".join(f'"{_escaped(name)}"' for name in shape.ids)
    lines = [f"id = {ids if len(shape.ids) == 1 else f'[{ids}]'}"]
    if shape.server:
        made = ", ".join(f'"{_escaped(name)}"' for name in shape.server)
        lines.append(f"server = [{made}]")
    lines += [f'{key} = "{_escaped(name)}"' for key, name in _last(shape) if name]
    if shape.references:
        pairs = ", ".join(f'"{_escaped(at)}" = "{_escaped(to)}"' for at, to in shape.references.items())
        lines.append(f"references = {{ {pairs} }}")
    for name, link in shape.links.items():
        to = f', to = "{_escaped(link.to)}"' if link.to else ""
        lines.append(f'links.{_bare(name)} = {{ write = "{link.write}"{to} }}')
    lines += [f"# {name} is one of {', '.join(choices[:12])}" for name, choices in part.choices]
    space = " " * max(1, 42 - len(f'name = "{shape.name}"'))
    return _POLICIES.format(
        id=id,
        title=_escaped(part.path),
        path=_escaped(part.path),
        name=_escaped(shape.name),
        space=space,
        lines="".join(f"{line}\n" for line in lines),
    )


def _last(shape: PolicyShape) -> tuple[tuple[str, str], ...]:
    return (("changed_by", shape.changed_by), ("changed_at", shape.changed_at))


def _bare(name: str) -> str:
    return (
        name if name.replace("_", "").replace("-", "").isalnum() and name.isascii() else f'"{_escaped(name)}"'
    )


def _escaped(text: str) -> str:
    """Return a text as it stands between double quotes in TOML."""
    plain = text.replace("\\", "\\\\").replace('"', '\\"')
    return "".join(letter if letter.isprintable() else f"\\U{ord(letter):08X}" for letter in plain)


def _wide(text: str) -> str:
    """Return a line as wide as comments are behind."""
    return f"{text:<42} "


def _listed(key: str, addresses: tuple[str, ...], why: str, end: str = "") -> str:
    if not addresses:
        return ""
    lines = "".join(f'    "{_escaped(address)}",\n' for address in addresses)
    return f"{_wide(key + ' = [')}# {why}\n{lines}]{end}"


def _titles(part: DraftPart) -> str:
    if not part.titles:
        return _TITLES
    lines = "".join(
        f'"{_escaped(address)}" = "{_escaped(address.rpartition("/")[2])}"\n' for address in part.titles
    )
    return f"[part.titles]                            # what people call them\n{lines}"
