"""Real files with mistakes in them, as people and other programs make them."""

import random
from collections.abc import Iterator

from conformance.corpus import corpus
from conformance.suites import Case, cpython_plists, libplist

_SIGNS = "\t :;=[]{}()<>/\\#'\"&*!|?-%@`,.~^$0aé\u2028\r\n"


def mutated(format: str, count: int, seed: int = 7) -> Iterator[Case]:
    """Yield files of a format with one to three changes each, the same for the same seed."""
    chosen = random.Random(f"{format} {seed}")
    found = (*libplist(), *cpython_plists()) if format == "plist" else corpus(format)
    cases = [case for case in found if len(case.data) < 4000 and not case.data.startswith(b"bplist")]
    if format == "plist":
        cases = [case for case in cases if b"<dict>" in case.data]
    for number in range(count):
        case = chosen.choice(cases)
        text = case.data.decode("utf-8", "replace")
        for _ in range(chosen.randrange(1, 4)):
            text = chosen.choice(_CHANGES)(text, chosen)
        yield case._replace(
            name=f"{number}: {case.name}", data=text.encode("utf-8", "replace"), is_right=None
        )


def _sign(text: str, chosen: random.Random) -> str:
    at = chosen.randrange(len(text) + 1)
    return text[:at] + chosen.choice(_SIGNS) * chosen.choice((1, 1, 1, 2, 3)) + text[at:]


def _other_sign(text: str, chosen: random.Random) -> str:
    at = chosen.randrange(len(text) + 1)
    return text[:at] + chosen.choice(_SIGNS) + text[at + 1 :]


def _without_sign(text: str, chosen: random.Random) -> str:
    at = chosen.randrange(len(text) + 1)
    return text[:at] + text[at + chosen.choice((1, 1, 2, 8)) :]


def _lines(text: str, chosen: random.Random) -> str:
    lines = text.split("\n")
    at, other = chosen.randrange(len(lines)), chosen.randrange(len(lines))
    what = chosen.randrange(5)
    if what == 0:
        lines.insert(other, lines[at])
    elif what == 1:
        del lines[at]
    elif what == 2:
        lines[at], lines[other] = lines[other], lines[at]
    elif what == 3:
        lines[at] = chosen.choice((" ", "  ", "\t")) + lines[at]
    else:
        lines[at] = lines[at].lstrip() if chosen.random() < 0.5 else f"{lines[at]} "
    return "\n".join(lines)


def _ends(text: str, chosen: random.Random) -> str:
    return text.replace("\n", "\r\n") if chosen.random() < 0.5 else text[: chosen.randrange(len(text) + 1)]


_CHANGES = (_sign, _sign, _other_sign, _without_sign, _lines, _lines, _lines, _ends)
