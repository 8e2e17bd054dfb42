"""Addresses: where a setting stands inside its document, as a JSON Pointer (RFC 6901)."""

from fnmatch import fnmatchcase


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


def matches(pattern: str, address: str) -> bool:
    """Tell whether an address fits a pattern.

    `*` and `?` stand for characters inside one token; a last token `*` also stands for all that lies below.

    >>> matches("/window/*", "/window/left/width"), matches("/*/width", "/window/left/width")
    (True, False)
    """
    wanted, given = tokens(pattern), tokens(address)
    if wanted and wanted[-1] == "*" and len(given) > len(wanted):
        given = given[: len(wanted)]
    return len(wanted) == len(given) and all(
        fnmatchcase(token, part) for token, part in zip(given, wanted, strict=True)
    )
