"""Taking in what others wrote: text in any encoding as valid Unicode, entries of archives within a size."""

from __future__ import annotations

import zipfile

from kestrav.core.errors import Damaged

LARGEST_ENTRY = 1 << 30  # bytes; a small archive can unpack to any size

UTF_8 = "UTF-8"
GUESSED = "Windows-1252"  # what text is taken for that neither says its encoding nor is UTF-8
_MARKS = ((b"\xff\xfe", "utf-16", "UTF-16"), (b"\xfe\xff", "utf-16", "UTF-16"), (b"\xef\xbb\xbf", "utf-8-sig", UTF_8))


def as_utf8(data: bytes) -> tuple[bytes, str]:
    """Text as UTF-8, and the name of the encoding it was in.

    The guess is Windows-1252, which WHATWG's Encoding Standard reads for Latin-1 too.
    """
    for mark, code, name in _MARKS:
        if data.startswith(mark):
            return data.decode(code, "replace").encode(), name
    try:
        data.decode("utf-8")
    except UnicodeDecodeError:
        return data.decode("cp1252", "replace").encode(), GUESSED
    return data, UTF_8


def unpacked(archive: zipfile.ZipFile, name: str) -> bytes:
    """The content of an entry. Raises KeyError when there is none, ValueError when it is too large to be taken in."""
    size = archive.getinfo(name).file_size
    if size > LARGEST_ENTRY:
        raise Damaged(f"its entry “{name}” unpacks to {size / 1e9:.1f} GB, more than {LARGEST_ENTRY / 1e9:.1f} GB")
    return archive.read(name)


def as_unicode(text: str) -> str:
    """Text without the lone surrogates by which a reader, or the system in a file's name, keeps bytes that it could not decode."""
    try:
        data = text.encode("utf-8", "surrogateescape")
    except UnicodeEncodeError:  # surrogates that stand for no bytes
        data = text.encode("utf-8", "replace")
    return as_utf8(data)[0].decode("utf-8")
