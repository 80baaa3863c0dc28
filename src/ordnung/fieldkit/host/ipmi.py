"""One command to the own controller over IPMI, by Linux's device (linux/ipmi.h); for where no network is known yet."""

from __future__ import annotations

import ctypes
import fcntl
import os
import select
from pathlib import Path

DEVICE = Path("/dev/ipmi0")
SYSTEM_INTERFACE, OWN_CHANNEL = 0x0C, 0x0F
MOST_BYTES = 272
WAIT_S = 10.0


class _Message(ctypes.Structure):
    _fields_ = [
        ("netfn", ctypes.c_ubyte),
        ("cmd", ctypes.c_ubyte),
        ("size", ctypes.c_ushort),
        ("data", ctypes.c_void_p),
    ]


class _Request(ctypes.Structure):
    _fields_ = [("address", ctypes.c_void_p), ("size", ctypes.c_uint), ("number", ctypes.c_long), ("message", _Message)]


class _Received(ctypes.Structure):
    _fields_ = [
        ("kind", ctypes.c_int), ("address", ctypes.c_void_p), ("size", ctypes.c_uint), ("number", ctypes.c_long),
        ("message", _Message),
    ]  # fmt: skip


class _Address(ctypes.Structure):
    _fields_ = [
        ("kind", ctypes.c_int),
        ("channel", ctypes.c_short),
        ("lun", ctypes.c_ubyte),
        ("rest", ctypes.c_ubyte * 32),
    ]


_SEND = 2 << 30 | ctypes.sizeof(_Request) << 16 | ord("i") << 8 | 13
_RECEIVE = 3 << 30 | ctypes.sizeof(_Received) << 16 | ord("i") << 8 | 11


def ask(netfn: int, command: int, data: bytes, device: Path = DEVICE) -> bytes:
    """Send one command; returns its answer, completion code first.

    Raises:
        OSError: there is no such device, or no answer within 10 s.
    """
    place = os.open(device, os.O_RDWR | os.O_CLOEXEC)
    try:
        body = ctypes.create_string_buffer(data, len(data))
        to = _Address(kind=SYSTEM_INTERFACE, channel=OWN_CHANNEL)
        message = _Message(netfn=netfn, cmd=command, size=len(data), data=ctypes.addressof(body))
        size = _Address.rest.offset + 1
        fcntl.ioctl(place, _SEND, _Request(address=ctypes.addressof(to), size=size, number=1, message=message))
        if not select.select([place], [], [], WAIT_S)[0]:
            raise TimeoutError(110, "the controller did not answer over IPMI", str(device))
        answer, source = ctypes.create_string_buffer(MOST_BYTES), _Address()
        received = _Received(
            address=ctypes.addressof(source), size=ctypes.sizeof(source),
            message=_Message(size=MOST_BYTES, data=ctypes.addressof(answer)),
        )  # fmt: skip
        fcntl.ioctl(place, _RECEIVE, received)
        return answer.raw[: received.message.size]
    finally:
        os.close(place)
