"""What names say of a secret, in the languages that technicians meet; all folded: small letters, no accents."""

import re
import unicodedata
from functools import lru_cache
from typing import Literal, NamedTuple

# How much a name tells: of a password, whatever its value; of a secret, if that is one long word; of a token, if
# that has digits, too; of what is one only if it looks random; of a number that is a secret.
Kind = Literal["", "password", "secret", "token", "random", "number"]


def set_of(words: str) -> frozenset[str]:
    """Return the words of a text."""
    return frozenset(words.split())


_PASSWORDS = set_of(
    """
    pass password passwd passwrd passphrase passcode passkey pwd pw pswd psw psk
    passwort kennwort kennsatz losungswort zugangscode
    motdepasse mdp
    contrasena contrasenya clave palabraclave
    senha palavrapasse palavrachave
    parolachiave paroladordine parolaordine
    wachtwoord toegangscode
    haslo hasel
    """
)
_PLURALS = set_of(
    """
    passwords passwds passphrases passcodes passkeys pwds passworter passwoerter passworte kennworter kennwoerter
    motsdepasse contrasenas contrasenyas claves senhas palavraspasse paroleordine wachtwoorden hasla
    """
)
_SECRETS = set_of(
    """
    secret secrets apisecret geheimnis geheimnisse geheim segredo segredos segreto segreti secreto secretos
    sekret sekrety tajne
    """
)
_TOKENS = set_of(
    """
    token tokens credential credentials authorization authorisation bearer
    apikey apikeys authkey accesskey privatekey secretkey sharedkey encryptionkey signingkey sessionkey
    masterkey licensekey licencekey productkey presharedkey accountkey storagekey connectionstring
    geheimschlussel geheimschluessel zugangsschlussel zugangsschluessel zugangsdaten
    jeton jetons
    """
)
# Of what a key, in any language, is a secret.
_KEYS = set_of(
    """
    key keys schlussel schluessel cle cles chave chaves chiave chiavi sleutel sleutels klucz klucze
    """
)
_KEY_OF = set_of(
    """
    api access private secret secrete auth encryption session shared preshared signing master license licence
    product account storage host privee privada privado privata prywatny geheime privater privat lizenz licentie
    de da di
    """
)
_RANDOM = frozenset({"auth", "session", "cookie", "cookies", "salt", "nonce", "sid", *_KEYS})
_NUMBERS = frozenset({"pin", "pins", "puk", "pincode", "pinnumber", "pinnummer", "geheimzahl"})
# Longer names end with these: userpassword, datenbankpasswort.
_ENDINGS = tuple(word for word in (*_PASSWORDS, *_PLURALS) if len(word) >= 5)
VOCABULARY = (_PASSWORDS, _PLURALS, _SECRETS, _TOKENS, _RANDOM, _NUMBERS)
# What is said about a secret, and is none itself.
_ABOUT = set_of(
    """
    account address age agent algo algorithm ask attempt attempts backend bar button cache change changed char
    chars check checker class cmd color colour command comment complexity count created date days default
    description
    dialog domain email enable enabled encoding entry error expiration expire expires expiry field file filename
    files folder font format function generator group handler header help helper hide hint history hook host icon
    id index info input invalid kind label language last length level limit lifetime list lock lockout manager
    mask max menu message method min mode model module name names never number only optional page path pattern
    plugin policy port position program prompt provider question regex regexp remember reminder request require
    required requirements reset retries retry rule rules save saved scope screen script server service shortcut show
    size source state status storage store strategy strength style text time timeout title tool toolbar tooltip type
    unit updated uri url usage use user username valid validator version view visible warning width window words
    laenge lange dauer speichern merken anzeigen longueur
    """
)
_ABOUT_BEFORE = set_of(
    """
    ask allow can check confirm enable forgot has have hide is lost low high band max min must need needs no num
    prompt remember require requires reveal save show use uses valid with without
    """
)
# Where texts for people stand, whose names tell what they are about.
_TEXTS = set_of(
    """
    i18n l10n label labels lang locale locales message messages string strings tooltip tooltips
    translation translations
    """
)
STRENGTH: tuple[Kind, ...] = ("", "random", "number", "token", "secret", "password")
_WORD = re.compile(r"[A-Z]?[a-z]+|[A-Z]+(?![a-z])|\d+")
# What the name of a setting is called where name and value stand beside each other, and the value.
NAME_NAMES = frozenset(
    {f"{sign}{name}" for sign in ("", "@") for name in ("key", "name", "id", "setting", "option", "property")}
    | {"parameter", "attribute", "definition", "label", "field"}
)
VALUE_NAMES = frozenset(
    {"value", "val", "data", "content", "string", "text", "@value", "@val", "#text", "$t"}
)
_LETTERS = str.maketrans({"ł": "l", "Ł": "L", "ß": "ss", "ø": "o", "Ø": "O"})
_PASSIVE = frozenset(
    {"low", "high", "band", "all", "first", "second", "multi", "one", "two", "single", "pass"}
)


# Any of these names, in small letters, has one of these in it: a quick look.
_STEMS = re.compile(
    "pass|pw|ps[kw]|secret|token|key|credential|auth|bearer|session|cookie|salt|nonce|sid|connections|kenn|losung"
    "|zugang|geheim|schl(?:u|ü|ue)ss|mdp|clave|senha|palavra|parol[ae]|contras|toegang|wachtw|has[lł]|hase[lł]|jeton"
    "|segre|sekret|tajne|cl[eé]|chav|chiav|sleutel|klucz|pin|puk|mot.{0,2}de|mots|pri[vw]"
)


class Telling(NamedTuple):
    """What one name says: the kind of secret, and the word that tells it."""

    kind: Kind = ""
    word: str = ""
    is_about: bool = False  # it is said about something
    is_plural: bool = False  # what is below it are such secrets
    is_text: bool = False  # what is below it is read by people


@lru_cache(maxsize=16_384)
def telling(name: str) -> Telling:
    """Return what a name tells.

    >>> telling("dbPassword").kind, telling("password_timeout").kind, telling("Mot de passe").kind
    ('password', '', 'password')
    """
    words = words_in(name)
    about = bool(_ABOUT.intersection(words))
    is_text = bool(words) and words[-1] in _TEXTS
    best = Telling("", "", about, is_text=is_text)
    for at in range(len(words)):
        kind, length = _kind(words, at)
        is_about = bool(_ABOUT.intersection(words[at + length :])) or (at and words[at - 1] in _ABOUT_BEFORE)
        if not is_about and STRENGTH.index(kind) > STRENGTH.index(best.kind):
            word = "".join(words[at : at + length])
            best = Telling(kind, word, about, word in _PLURALS or word.endswith("s"), is_text)
    return best


@lru_cache(maxsize=65_536)
def may_tell(name: str) -> bool:
    """Tell whether a name may tell anything: most do not, and are seen again and again."""
    return _STEMS.search(name.lower()) is not None


def words_in(name: str) -> list[str]:
    """Return the words of a name, folded."""
    return [word.lower() for word in _WORD.findall(fold(name))]


def fold(text: str) -> str:
    """Return a text without accents."""
    if text.isascii():
        return text
    plain = unicodedata.normalize("NFKD", text.translate(_LETTERS))
    return "".join(c for c in plain if not unicodedata.combining(c))


def speaks_of_passwords(text: str) -> bool:
    """Tell whether a text for people speaks of passwords, rather than being one."""
    words = words_in(text)
    joined = ["".join(words[at : at + 3]) for at in range(len(words))]
    known = _PASSWORDS | _PLURALS | _SECRETS | _TOKENS
    is_spoken = any(w in known or w.endswith(_ENDINGS) for w in words) or any(
        word.startswith(("motdepasse", "palavrapasse", "paroladordine")) for word in joined
    )
    return is_spoken and (" " in text.strip() or len(words) == 1)


def _kind(words: list[str], at: int) -> tuple[Kind, int]:
    """Return what the words from a place on tell, and how many of them do."""
    word = words[at]
    for length in (3, 2):
        together = "".join(words[at : at + length])
        if len(words) >= at + length and together in _PASSWORDS | _PLURALS:
            return "password", length
        if len(words) >= at + length and together in _TOKENS:
            return "token", length
    if word == "pass":
        is_step = (at and words[at - 1] in _PASSIVE) or words[at + 1 : at + 2] == ["through"]
        return ("", 1) if is_step else ("password", 1)
    if word in _PASSWORDS or word in _PLURALS or word.endswith(_ENDINGS):
        return "password", 1
    if word in _SECRETS or word.endswith("secret"):
        return "secret", 1
    if word in _TOKENS or word.endswith(("token", "apikey", "privatekey")):
        return "token", 1
    if word in _KEYS and any(
        near in _KEY_OF or near.startswith(("geheim", "priv", "tajn"))
        for near in (*words[max(0, at - 2) : at], *words[at + 1 : at + 2])
    ):
        return "token", 1
    if word in _NUMBERS:
        return "number", 1
    return ("random", 1) if word in _RANDOM else ("", 1)
