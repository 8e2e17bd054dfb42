"""Addresses: where a setting stands inside its document, as a JSON Pointer (RFC 6901)."""

import re
from functools import cache


def pointer(*tokens: str) -> str:
    """Build an address from its tokens, escaped as in RFC 6901, section 3.

    >>> pointer("lamps/north", "dusk")
    '/lamps~1north/dusk'
    """
    return "/" + "/".join(map(_escaped, tokens)) if tokens else ""


def _escaped(token: str) -> str:
    return token.replace("~", "~0").replace("/", "~1") if "~" in token or "/" in token else token


def tokens(address: str) -> tuple[str, ...]:
    """Take an address apart; the address of the whole document, "", has no tokens.

    >>> tokens("/lamps~1north/dusk")
    ('lamps/north', 'dusk')
    """
    if not address:
        return ()
    return tuple(token.replace("~1", "/").replace("~0", "~") for token in address[1:].split("/"))


def folded(name: str) -> str:
    """Return a name so that those which a registry takes for the same are the same: letter by letter.

    >>> folded("Straße"), len(folded("Straße"))
    ('STRAßE', 6)
    """
    if name.isascii():
        return name.upper()
    return "".join([upper if len(upper := letter.upper()) == 1 else letter for letter in name])


def matches(pattern: str, address: str) -> bool:
    """Tell whether an address fits a pattern.

    `*` and `?` stand for characters inside one token; a last token `*` also stands for all that lies below.

    >>> matches("/window/*", "/window/left/width"), matches("/*/width", "/window/left/width")
    (True, False)
    """
    return _expression(pattern).fullmatch(address) is not None


@cache
def _expression(pattern: str) -> re.Pattern[str]:
    """Translate a pattern; brackets are what they are, as XML's addresses have them."""
    wild = {"*": "[^/]*", "?": "(?:[^/~]|~[01])"}
    pieces = [wild.get(piece, re.escape(piece)) for piece in re.split(r"([*?])", pattern)]
    return re.compile("".join(pieces) + ("(?:/.*)?" if pattern.endswith("/*") else ""), re.DOTALL)
