"""Secrets sealed into a profile: a JSON Web Encryption (RFC 7516) with AES-256-GCM (RFC 7518).

What is inside is a JSON array of `[part, document, address, type, value]`. It opens with a passphrase
(PBES2-HS512+A256KW), with a private key whose public key it was sealed for (ECDH-ES+A256KW for X25519 of RFC
8037 and for elliptic curves, RSA-OAEP-256), or with the key of the machine that made it, for fallbacks (A256KW).
"""

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

import msgspec

from zinker.model.errors import Damaged, Refused, WrongUsage
from zinker.model.plain_json import decode, encode
from zinker.model.setting import Leaf
from zinker.model.where import Where

if TYPE_CHECKING:
    from jwcrypto.jwk import JWK

Secrets = Mapping[Where, Leaf]

# Rounds of PBKDF2: about half a second for whoever knows the passphrase, years for whoever guesses it.
_ROUNDS = 600_000
_MOST_ROUNDS = 2_000_000
_MACHINE = "machine"


class NotOpened(Exception):
    """A lock does not fit what is sealed."""


class Lock(msgspec.Struct, frozen=True):
    """What a profile's secrets are sealed for, or opened with: exactly one of these is given.

    `key` is a key in PEM, public for sealing, private for opening; `machine` 32 bytes that stay on the machine, or
    that a key file has.
    """

    passphrase: str = ""
    key: bytes = b""
    machine: bytes = b""

    @property
    def kind(self) -> str:
        """In a word: passphrase, key or machine."""
        return "passphrase" if self.passphrase else "key" if self.key else _MACHINE


def cannot_seal() -> str:
    """Say why nothing can be sealed or opened on this machine, or ""."""
    try:
        import jwcrypto.jwe  # noqa: F401
    except ImportError as error:
        return f"what encrypts cannot be loaded on this machine: {error}"
    return ""


def _check() -> None:
    if why := cannot_seal():
        then = "Install the package cryptography anew, in a release for this system."
        raise Refused("Secrets not sealed or opened", why, then)


def seal(secrets: Secrets, locks: tuple[Lock, ...]) -> bytes:
    """Seal secrets so that each of the locks opens them.

    Raises `WrongUsage` for an unusable key, and `Refused` where nothing can be encrypted.
    """
    _check()
    rows = [(*where, leaf.type, leaf.value) for where, leaf in sorted(secrets.items(), key=lambda s: s[0])]
    return seal_bytes(encode(rows), locks)


def unseal(data: bytes, lock: Lock) -> dict[Where, Leaf]:
    """Open sealed secrets; raises `Refused` where the lock does not fit, and `Damaged` for anything else."""
    _check()
    try:
        rows = decode(unseal_bytes(data, lock), list[tuple[str, str, str, str, Any]])
    except NotOpened:
        word = {"passphrase": "this passphrase", "key": "this key"}.get(lock.kind, "this machine")
        why = f"{word} does not open what is sealed in the profile"
        then = "Check it, or leave the secrets out: the place keeps its own then."
        raise Refused("Secrets not opened", why, then) from None
    except ValueError as error:
        raise Damaged("Secrets not opened", f"what is sealed is damaged: {error}") from None
    return {Where(*where): Leaf(type, value) for *where, type, value in rows}


def seal_bytes(data: bytes, locks: tuple[Lock, ...]) -> bytes:
    """Seal bytes so that each of the locks opens them; raises `WrongUsage` for an unusable key."""
    from jwcrypto import jwe

    _allow_rounds()
    token = jwe.JWE(data, protected=_json({"enc": "A256GCM"}))
    for lock in locks:
        key = _jwk(lock)
        if lock.passphrase:
            header = {"alg": "PBES2-HS512+A256KW", "p2c": _ROUNDS}
        elif lock.machine:
            header = {"alg": "A256KW"}
        else:
            header = {"alg": "RSA-OAEP-256" if _type(key) == "RSA" else "ECDH-ES+A256KW"}
        token.add_recipient(key, header=_json(header))
    return token.serialize().encode("ascii")


def unseal_bytes(data: bytes, lock: Lock) -> bytes:
    """Return what was sealed; raises `NotOpened` where the lock does not fit, `ValueError` for anything else."""
    from jwcrypto import jwe
    from jwcrypto.common import JWException

    _allow_rounds()
    token = jwe.JWE()
    try:
        token.deserialize(data.decode("ascii"))
    except JWException as error:
        raise ValueError(str(error)) from None
    try:
        token.decrypt(_jwk(lock))
    except (JWException, ValueError, TypeError):
        raise NotOpened from None
    return bytes(token.payload)


def _allow_rounds() -> None:
    """Let the library do as many rounds as we ask for, and no more than a hostile profile may ask for."""
    from jwcrypto import jwa

    jwa.default_max_pbkdf2_iterations = _MOST_ROUNDS


def _jwk(lock: Lock) -> "JWK":
    from jwcrypto.common import base64url_encode
    from jwcrypto.jwk import JWK

    if lock.passphrase:
        return JWK.from_password(lock.passphrase)
    if lock.machine:
        return JWK(kty="oct", k=base64url_encode(lock.machine))
    try:
        return JWK.from_pem(lock.key)
    except (ValueError, TypeError) as error:
        why = f"the key cannot be used: {str(error).splitlines()[0]}"
        then = "Give an X25519, elliptic-curve or RSA key in PEM, without a passphrase of its own."
        raise WrongUsage("Secrets not sealed or opened", why, then) from None


def _type(key: "JWK") -> str:
    return str(key.export_public(as_dict=True)["kty"])


def _json(header: dict[str, Any]) -> str:
    return msgspec.json.encode(header).decode("ascii")
