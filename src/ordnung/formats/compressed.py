"""Files that come plain, gzipped (RFC 1952) or as zstd (RFC 8878): told by their first bytes, unpacked with a limit."""

from __future__ import annotations

import io
import zlib

import zstandard

from ordnung.formats.documents import MAX_BYTES
from ordnung.formats.errors import FormatError

_GZIP, _ZSTD = b"\x1f\x8b", b"\x28\xb5\x2f\xfd"
_PIECE = 256 * 1024


def unpack(raw: bytes, source: str, limit: int = MAX_BYTES) -> bytes:
    """The bytes inside; plain ones as they are.

    Raises:
        FormatError: cut short, altered, or larger than ``limit`` once unpacked (a bomb is never unpacked further).
    """
    if raw.startswith(_GZIP):
        return _gunzip(raw, source, limit)
    if raw.startswith(_ZSTD):
        return _unzstd(raw, source, limit)
    return raw


def _too_large(source: str, limit: int) -> FormatError:
    return FormatError(source, "", f"larger than {limit // 2**20} MiB when unpacked")


def _gunzip(raw: bytes, source: str, limit: int) -> bytes:
    out, engine, rest = bytearray(), zlib.decompressobj(zlib.MAX_WBITS | 16), raw
    try:
        while rest and not engine.eof:
            out += engine.decompress(rest, _PIECE)
            rest = engine.unconsumed_tail
            if len(out) > limit:
                raise _too_large(source, limit)
    except zlib.error as error:
        raise FormatError(source, f"byte {len(raw) - len(rest)}", f"the gzip data is damaged ({error})") from None
    if not engine.eof:
        raise FormatError(source, f"byte {len(raw)}", "the gzip data ends in the middle: it was cut short")
    if engine.unused_data:
        raise FormatError(source, f"byte {len(raw) - len(engine.unused_data)}", "something follows the gzip data")
    return bytes(out)


def _unzstd(raw: bytes, source: str, limit: int) -> bytes:
    out = bytearray()
    engine = zstandard.ZstdDecompressor(max_window_size=2**27).decompressobj()
    feed = io.BytesIO(raw)
    try:
        # Small pieces in: one piece can unpack to 128 KiB blocks only, so the limit is met soon after it is passed.
        while piece := feed.read(4096):
            out += engine.decompress(piece)
            if len(out) > limit:
                raise _too_large(source, limit)
            if engine.eof:
                break
    except zstandard.ZstdError as error:
        raise FormatError(source, f"byte {feed.tell()}", f"the zstd data is damaged ({error})") from None
    if not engine.eof:
        raise FormatError(source, f"byte {len(raw)}", "the zstd data ends in the middle: it was cut short")
    return bytes(out)
