"""What secrets look like, whatever they are called: keys, tokens, addresses with a password, texts that hold one.

The shapes of the tokens of well-known services are those of the library detect-secrets, which is loaded only
where one of them may be.
"""

import base64
import re
from bisect import bisect_right
from collections import Counter
from collections.abc import Iterator, Sequence
from functools import lru_cache
from importlib import import_module
from itertools import accumulate
from math import log2

from zinker.jobs.secrets.words import may_tell, set_of, speaks_of_passwords, telling

# What begins such a token, and the module of the library's that knows its shape; a test holds both together.
TOKENS = {
    "AKIA": "aws",
    "ASIA": "aws",
    "ABIA": "aws",
    "ACCA": "aws",
    "A3T": "aws",
    "AccountKey=": "azure_storage_key",
    "ghp_": "github_token",
    "gho_": "github_token",
    "ghu_": "github_token",
    "ghs_": "github_token",
    "ghr_": "github_token",
    "glpat-": "gitlab_token",
    "gldt-": "gitlab_token",
    "glft-": "gitlab_token",
    "glsoat-": "gitlab_token",
    "glrt-": "gitlab_token",
    "GR1348941": "gitlab_token",
    "glcbt-": "gitlab_token",
    "glimt-": "gitlab_token",
    "glptt-": "gitlab_token",
    "glagent-": "gitlab_token",
    "gloas-": "gitlab_token",
    "_authToken=": "npm",
    "T3BlbkFJ": "openai",
    "pypi-": "pypi_token",
    "SG.": "sendgrid",
    "xox": "slack",
    "/services/T": "slack",
    "sq0csp-": "square_oauth",
    "k_live_": "stripe",
}
# What has to be in a text that holds a secret by its look.
_PLAIN = ("PRIVATE KEY", "-SECRET-KEY-")
_HASHES = ("{SSHA", "$6$", "$5$", "$2", "$y$", "$argon2")
_IN_RUNS = ("eyJ", *TOKENS)
SIGNS = (*_PLAIN, *_HASHES, *_IN_RUNS)
# Tokens are runs of so many letters, digits and a few signs at least; every one of those becomes an `a`.
_RUN = 16
_RUNS = bytes(
    97 if code < 128 and (chr(code).isalnum() or chr(code) in "_-=+") else 32 for code in range(256)
)
_FIXED = (
    ("a private key", r"-----BEGIN [A-Z0-9 ]*PRIVATE KEY(?: BLOCK)?-----(?:\s|\\[nr])*\w"),  # RFC 7468
    ("a private key", r"PRIVATE KEY FILE FORMAT|AGE-SECRET-KEY-1[0-9A-Z]{20,}"),
    ("a token", r"\beyJ[\w-]{10,}\.[\w-]{10,}\.[\w-]*"),  # RFC 7519
    ("the hash of a password", r"\{SSHA\d*\}[\w+/=]{20,}"),  # RFC 2307
    ("the hash of a password", r"\$(?:[56y]|2[aby]|argon2\w+)\$[\w./$,=+-]{20,}"),  # crypt(5)
)
_PEM = re.compile(_FIXED[0][1].encode())
# RFC 3986, section 3.2.1; what is put in for the password by a program is none.
_URI = r"(?i)(?<![a-z0-9+.-])[a-z][a-z0-9+.-]{0,30}://[^/@\s:?#\"'<>]*:([^/@\s?#\"'<>]+)@"
_BEARER = re.compile(r"\b(?:Bearer|Basic|Token)\s+([\w.~+/-]{12,}=*)", re.IGNORECASE)  # RFC 6750, RFC 7617
_BEFORE_TOKENS = ("earer ", "EARER ", "asic ", "ASIC ", "oken ", "OKEN ")
_NO_LETTERS = "\"'\\ \t>0123456789"  # what may stand between a name and its sign, or end it
_REACH = 130  # characters before a sign
# What ends a name before a sign, and what follows the sign: `password = x`, `"token": "x"`, `--secret=x`, `Pwd=x;`.
_NAME_ENDS = "=:;,&?\"'(){}<>[]|\r\n\t"
_VALUE = re.compile(
    r"""(?::=|=>|=|:(?!//))[ \t]*\\?(?:"(?P<double>[^"\r\n]{1,500})"|'(?P<single>[^'\r\n]{1,500})'"""
    r"""|(?P<bare>[^\s"',;&)}\]]{1,500}))"""
)
# What is said where a secret could stand, and is none: switches, kinds of asking and keeping, ways to hash.
_NO_SECRETS = set_of(
    """
    true false yes no on off none null nil undefined never always ask default auto automatic manual hidden masked
    plain text prompt keyring keychain wallet optional required enable enabled disable disabled
    ja nein oui non si sim nao nie tak md4 md5 bcrypt scrypt
    """
)
_NO_SECRET = re.compile(
    r"sha-?\d+|argon2\w*|pbkdf2\w*|hmac[\w-]*|aes[\w-]*|rsa[\w-]*|ed25519"
    r"|(?:files|compat|db)(?: .*)?|-?\d{1,3}|\d+\.[\d.]*|\d+[smhd]|\*+|#[0-9a-f]{3,8}|0x0+|[x*•.]+"
    r"|\$\{?[\w.:-]+\}?|\$\(.*\)|%\w*%?|\{\{?[^{}]*\}?\}|<[^<>]*>|@[\w.]+@|\[\w*\]"
    r"|(?:(?:ctrl|alt|shift|meta|cmd|super|control|primary)\+)+.{1,12}|(?:<\w+>)+\w{1,12}"
    r"|(?:[a-z]:)?[\\/][^\0]*|~[\\/].*|[a-z][a-z0-9+.-]*://[^@]*",
    re.IGNORECASE | re.DOTALL,
)
_RANDOM = re.compile(r"[A-Za-z0-9+/=_.:~-]{20,}")
_DER_KEYS = re.compile(
    rb"\A\x30(?:\x82..|\x81.|.)"
    rb"(?:\x02\x01[\x00\x01](?:\x02\x82|\x02\x81|\x30|\x04)"  # PKCS #1 and #8 (RFC 8017, 5208), SEC 1 (RFC 5915)
    rb"|\x30[\x10-\x60]\x06\x09\x2a\x86\x48\x86\xf7\x0d\x01(?:\x05|\x0c)"  # PKCS #8, encrypted
    rb"|\x02\x01\x03\x30)",  # PKCS #12 (RFC 7292)
    re.DOTALL,
)
_KEY_STORES = (b"\xfe\xed\xfe\xed", b"\xce\xce\xce\xce\x00\x00\x00\x02", b"SSH PRIVATE KEY FILE FORMAT")
# A packet of a secret key (RFC 9580, section 5.5.3), old and new format: length, version, when made, algorithm.
_PGP = re.compile(
    rb"\A(?:\x94.|\x95..|\x96.{4}|\x97|\xc5(?:[\x00-\xbf]|[\xc0-\xdf].|\xff.{4}))"
    rb"[\x03-\x06][\x30-\x7f].{3}[\x01-\x03\x10-\x13\x16\x19-\x1c]",
    re.DOTALL,
)


def may_look(rows: Sequence[str], text: str) -> Iterator[int]:
    """Yield which rows may hold a secret by their look; `text` is all of them, one a line, looked at as a whole."""
    signs = list(_signs_in(text))
    if "@" in text and "://" in text:
        signs.append("@")
    for sign in signs:
        yield from (number for number, row in enumerate(rows) if sign in row)
    if "=" in text or ":" in text:
        found = list(_telling_signs(text))
        ends = list(accumulate(len(row) + 1 for row in rows)) if found else []
        yield from (bisect_right(ends, at) for at in found)
    if any(word in text for word in _BEFORE_TOKENS):
        yield from (number for number, row in enumerate(rows) if _BEARER.search(row))


def _signs_in(text: str) -> Iterator[str]:
    """Yield the signs that a text has; those of tokens only where there is a run that is long enough for one."""
    yield from (sign for sign in _PLAIN if sign in text)
    if b"a" * _RUN in text.encode("utf-8", "surrogatepass").translate(_RUNS):
        yield from (sign for sign in _IN_RUNS if sign in text)
    if "$" in text or "{" in text:
        yield from (sign for sign in _HASHES if sign in text)


def _telling_signs(text: str) -> Iterator[int]:
    """Yield the places of the signs of equality and colons before which a word stands that may name a secret."""
    at = -1
    for part in text.replace(":", "=").split("=")[:-1]:
        at += len(part) + 1
        name = part[-_REACH:].rstrip(_NO_LETTERS)
        if name[-2:].isalpha():  # and not a drive
            name = name[-60:]
            if may_tell(name[max(map(name.rfind, " \"'&;,?(/\n")) + 1 :]):
                yield at


def look_of(text: str) -> str:
    """Say what secret a text is or holds by its look, or ""."""
    signs = list(_signs_in(text))
    if signs:
        for what, shape in _FIXED:
            if re.search(shape, text):
                return what
        for sign, module in TOKENS.items():
            if sign in signs and any(shape.search(text) for shape in known_to(module)):
                return "a token of a known shape"
    if "://" in text and "@" in text and any(fits("password", found[1]) for found in re.finditer(_URI, text)):
        return "an address with a password"
    is_said = any(word in text for word in _BEFORE_TOKENS)
    if is_said and any(is_random(found[1], 12) for found in _BEARER.finditer(text)):
        return "a token"
    return ""


@lru_cache
def known_to(module: str) -> tuple[re.Pattern[str], ...]:
    """Return the shapes that a module of the library knows."""
    plugin = import_module(f"detect_secrets.plugins.{module}")
    own = [
        vars(thing) for thing in vars(plugin).values() if getattr(thing, "__module__", "") == plugin.__name__
    ]
    return tuple(re.compile(shape) for named in own for shape in named.get("denylist", ()))


def assigned(text: str) -> Iterator[tuple[str, str]]:
    """Yield the names and values of secrets that a text gives: `password=x`, wherever it stands."""
    for at in _telling_signs(text) if "=" in text or ":" in text else ():
        found = _VALUE.match(text, at)
        if found:
            value, quoted = found["bare"], found["double"] or found["single"]
            name = _name_before(text[max(0, at - _REACH) : at])
            if _is_given(name, quoted or value, quoted is not None):
                yield name, quoted or value


def _name_before(text: str) -> str:
    """Return the name that a text ends with, of three words at most."""
    bare = text.rstrip("\"'\\ \t>")
    return " ".join(bare[max(map(bare.rfind, _NAME_ENDS)) + 1 :].split()[-3:])


def _is_given(name: str, value: str, is_quoted: bool) -> bool:
    says = telling(name)
    if not says.kind and " " in name:  # what stands before it may be of a sentence
        says = telling(name.rpartition(" ")[2])
    is_usage = name.startswith("-") and value.isupper()  # of an option, as in --password=WORD
    if not says.kind or is_usage or not is_value(value) or speaks_of_passwords(value):
        return False
    if says.kind == "password":
        return is_quoted or len(value) >= 4
    return fits(says.kind, value)


def fits(kind: str, value: str) -> bool:
    """Tell whether a text could be the value of a name that tells of a secret of some kind."""
    if len(value) > 2 and value[0] == value[-1] and value[0] in "\"'":
        value = value[1:-1]
    if not is_value(value):
        return False
    if kind == "password":
        return not speaks_of_passwords(value)
    has_digit = any(c.isdigit() for c in value)
    if kind == "number":
        return value.isdecimal() and 4 <= len(value) <= 12
    is_word = len(value) >= 8 and len(value.split()) == 1
    if kind == "secret":
        return (is_word and "." not in value) or has_digit
    if kind == "token":
        return (is_word and has_digit) or is_bearer(value)
    return is_random(value)


def is_bearer(value: str) -> bool:
    """Tell whether a text is what an Authorization header has (RFC 9110, section 11.6.2)."""
    return bool(re.fullmatch(r"\w+ [\w.~+/-]{8,}=*", value)) and any(c.isdigit() for c in value)


def is_value(text: str) -> bool:
    """Tell whether a text could be a secret at all, and is no switch, number, path, colour or placeholder."""
    bare = text.strip()
    return bool(bare) and bare.casefold() not in _NO_SECRETS and not _NO_SECRET.fullmatch(bare)


def is_random(text: str, least: int = 20) -> bool:
    """Tell whether a text is long, of letters and digits, and spread like random ones."""
    if len(text) < least or sum(c.isdigit() for c in text) < 2 or text.count("/") > 2:
        return False
    if least == 20 and (not _RANDOM.fullmatch(text) or sum(c.isdigit() for c in text) < 3):
        return False
    share = [count / len(text) for count in Counter(text).values()]
    bits = -sum(p * log2(p) for p in share)  # a character; those of words have less
    return bits > (3.3 if least == 20 else 2.8)


def key_in(data: bytes) -> str:
    """Say what key or store of keys some bytes are, or hold, or ""."""
    if _DER_KEYS.match(data) or data.startswith(_KEY_STORES) or _PGP.match(data) or pem_in(data):
        return "a private key"
    if data[:2] == b"MI" and re.fullmatch(rb"[A-Za-z0-9+/=\s]+", data):
        return key_in(base64.b64decode(data[: len(data) // 4 * 4])) if len(data) > 40 else ""
    return ""


def pem_in(data: bytes) -> bool:
    """Tell whether there is a private key in PEM among some bytes, in UTF-8 or UTF-16."""
    return (
        b"-\0-\0" in data
        and _PEM.search(data.replace(b"\0", b"")) is not None
        or (b"PRIVATE KEY" in data and _PEM.search(data) is not None)
    )
