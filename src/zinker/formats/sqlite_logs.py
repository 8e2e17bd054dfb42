"""What SQLite keeps beside a database: its rollback journal and its write-ahead log (file format, 3 and 4).

Both are put into the bytes of the database as SQLite itself would when it opens the three files: a transaction
that was cut off is taken back, and what is committed in the log is in it.
"""

import struct

from zinker.model.errors import DocumentError

_JOURNAL = bytes.fromhex("d9d505f920a163d7")
_ALL = 0xFFFF_FFFF  # records up to the end of the journal
_MASK = 0xFFFF_FFFF
_journal_header = struct.Struct(">8sIIIII")
_log_header = struct.Struct(">IIIIIIII")
_frame_header = struct.Struct(">IIIIII")
_u32 = struct.Struct(">I")


def put_together(database: bytes, journal: bytes, log: bytes) -> bytes:
    """Return a database as it stands after its last whole transaction; raises `DocumentError`."""
    return _with_log(_rolled_back(database, journal), log)


def _rolled_back(database: bytes, journal: bytes) -> bytes:
    """Put the pages back that an unfinished transaction has written over."""
    if not journal.startswith(_JOURNAL) or len(journal) < _journal_header.size:
        return database  # none, or one that is done with
    if journal.endswith(_JOURNAL) and len(journal) > 16 and _u32.unpack_from(journal, len(journal) - 16)[0]:
        raise DocumentError("it is in the middle of a transaction over several databases")
    whole = bytearray(database)
    _, _, _, pages, sector, size = _journal_header.unpack_from(journal)
    if not _is_size(size) or not 32 <= sector <= 65536:
        raise DocumentError("its rollback journal is damaged")
    _resize(whole, pages * size)
    at = 0
    while at + sector <= len(journal):
        magic, count, nonce, *_ = _journal_header.unpack_from(journal, at)
        if magic != _JOURNAL:
            break
        at += sector
        most = (len(journal) - at) // (size + 8)
        for _ in range(most if count == _ALL else min(count, most)):
            number = _u32.unpack_from(journal, at)[0]
            page = journal[at + 4 : at + 4 + size]
            # Every 200th byte from the end on is in the sum; the first of a page is not.
            told = _u32.unpack_from(journal, at + 4 + size)[0]
            if not number or (nonce + sum(page[size - 200 : 0 : -200])) & _MASK != told:
                return bytes(whole)  # it was cut off here, before the database was touched
            if number <= pages:
                whole[(number - 1) * size : number * size] = page
            at += size + 8
        at = -(-at // sector) * sector
    return bytes(whole)


def _with_log(database: bytes, log: bytes) -> bytes:
    """Put the pages in that are committed in a write-ahead log."""
    if len(log) < _log_header.size:
        return database
    magic, _, size, _, *salts, _, _ = _log_header.unpack_from(log)
    if magic & ~1 != 0x377F_0682 or not _is_size(size):
        return database
    pairs = struct.Struct(">II" if magic & 1 else "<II")
    sums = _summed(pairs, log[:24], (0, 0))
    if sums != struct.unpack_from(">II", log, 24):
        return database
    whole, waiting = bytearray(database), {}
    for at in range(_log_header.size, len(log) - _frame_header.size - size + 1, _frame_header.size + size):
        number, pages, *told_salts, first, second = _frame_header.unpack_from(log, at)
        if told_salts != salts or not number:
            break  # left of an earlier round
        page = log[at + _frame_header.size : at + _frame_header.size + size]
        sums = _summed(pairs, log[at : at + 8] + page, sums)
        if sums != (first, second):
            break  # cut off
        waiting[number] = page
        if pages:  # the transaction ends here, and the database has as many pages
            _resize(whole, pages * size)
            for number, page in waiting.items():
                whole[(number - 1) * size : number * size] = page
            _resize(whole, pages * size)
            waiting = {}
    return bytes(whole)


def _is_size(size: int) -> bool:
    return 512 <= size <= 65536 and not size & (size - 1)


def _resize(whole: bytearray, size: int) -> None:
    del whole[size:]
    whole += bytes(size - len(whole))


def _summed(pairs: struct.Struct, data: bytes, sums: tuple[int, int]) -> tuple[int, int]:
    first, second = sums
    for one, other in pairs.iter_unpack(data):
        first = (first + one + second) & _MASK
        second = (second + other + first) & _MASK
    return first, second
