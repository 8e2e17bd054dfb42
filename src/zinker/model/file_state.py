"""What a document that is a file is, besides its settings: the one typed form of what an opening line says."""

from collections.abc import Mapping
from typing import Any, Final

import msgspec

from zinker.model.setting import DOCUMENT, WHOLE, WITHHELD, Leaf, Setting

_NAMES: Final = ("size", "sha256", "mode", "link", "folder", "key", "mark")


class FileState(msgspec.Struct, frozen=True, omit_defaults=True, rename={"is_folder": "folder"}):
    """One state of a document.

    `format` is the one it was read in, or `whole`. A file has `size` in bytes and `sha256`, in hexadecimal and
    without its withheld secrets, and its permission bits, octal; instead of these, a link has where it leads,
    an empty folder is one, and a file that is a secret as a whole has a fingerprint: `key` and `mark`.
    """

    format: str = WHOLE
    size: int = 0
    sha256: str = ""
    mode: str = ""
    link: str = ""
    is_folder: bool = False
    key: str = ""
    mark: str = ""

    @classmethod
    def of(cls, said: Setting | Leaf) -> "FileState":
        """Return what an opening line says.

        >>> FileState.of(Leaf("whole", {"link": "to.png"})).link
        'to.png'
        """
        value: Mapping[str, Any] = said.value
        about = {("is_folder" if name == "folder" else name): value[name] for name in _NAMES if name in value}
        return cls(format=WHOLE if said.type == WHOLE else str(value.get("format", "")), **about)

    def head(self, document: str) -> Setting:
        """Return the line that opens a document of this state."""
        said: dict[str, Any] = {} if self.is_whole else {"format": self.format}
        if self.sha256:
            said |= {"size": self.size, "sha256": self.sha256}
        more = {"mode": self.mode, "link": self.link, "folder": self.is_folder}
        said |= {name: value for name, value in more.items() if value}
        said |= {"key": self.key, "mark": self.mark} if self.is_secret else {}
        return Setting(document, "", WHOLE if self.is_whole else DOCUMENT, said)

    @property
    def is_whole(self) -> bool:
        """Whether the document is carried as it is, not taken apart."""
        return self.format == WHOLE

    @property
    def is_secret(self) -> bool:
        """Whether the file is a secret as a whole, so that only its fingerprint is known."""
        return bool(self.mark)

    @property
    def identity(self) -> str:
        """What tells the document from others of its name; "" where nothing does."""
        if self.link:
            return f"link:{self.link}"
        if self.is_folder:
            return "folder"
        return f"{WITHHELD}-{self.key}-{self.mark}" if self.mark else self.sha256

    def is_same(self, other: "FileState | None") -> bool:
        """Tell whether two states may be of the same document.

        Permission bits count for what is carried whole, if both are known: not every place has them. In what is
        taken apart, they are the place's own business.
        """
        if other is None or self.identity != other.identity:
            return False
        both = self.is_whole and other.is_whole and self.mode and other.mode
        return not both or self.mode == other.mode


def is_withheld(leaf: Leaf | None) -> bool:
    """Tell whether a value, or a whole file, is the fingerprint of a secret."""
    return leaf is not None and (
        leaf.type == WITHHELD or (leaf.type == WHOLE and FileState.of(leaf).is_secret)
    )


def is_same(one: FileState | None, other: FileState | None) -> bool:
    """Tell whether two states, or the lack of one, may be of the same document."""
    return one is other if one is None or other is None else one.is_same(other)
