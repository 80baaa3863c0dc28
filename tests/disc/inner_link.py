"""The inner link to a controller as the standards describe it: SMBIOS type 42, and a user handed out over IPMI."""

from __future__ import annotations

import contextlib
import socket
import threading
from pathlib import Path

from ordnung.fieldkit.host.bootstrap import CREDENTIALS, FINGERPRINT, GROUP_EXTENSION, REDFISH, SHA_256

MAC = "52:54:00:0d:2c:42"
END, COMMAND, ESCAPE = 0xA0, 0xA1, 0xAA
"""How QEMU frames what goes to a controller outside (docs/specs, "ipmi-bmc-extern")."""
GET_DEVICE_ID = (0x06, 0x01)
INVALID = 0xC1


def host_interface(port: int, *, bootstraps: bool) -> bytes:
    """One SMBIOS structure (DSP0134, 7.43; DSP0270): a USB network interface of version 2 that leads to 10.0.2.2."""
    traits = int(bootstraps).to_bytes(2, "little")
    device = bytes([4, 17]) + bytes(4) + bytes([0]) + bytes.fromhex(MAC.replace(":", "")) + traits + b"\xff\xff"
    own, service = bytes([10, 0, 2, 15]).ljust(16, b"\0"), bytes([10, 0, 2, 2]).ljust(16, b"\0")
    mask = bytes([255, 255, 255, 0]).ljust(16, b"\0")
    data = bytes(16) + bytes([1, 1]) + own + mask + bytes([1, 1]) + service + mask
    data += port.to_bytes(2, "little") + bytes(4) + bytes([0])
    body = bytes([0x40, len(device)]) + device + bytes([1, 4, len(data)]) + data
    return bytes([42, 4 + len(body), 0x2A, 0]) + body + b"\0\0"


class OuterController:
    """Answers IPMI for an emulated server: enough for its driver, and DSP0270's two commands."""

    def __init__(self, path: Path, user: str, password: str, fingerprint: str) -> None:
        self.user, self.password, self.fingerprint = user, password, fingerprint
        self.asked: list[tuple[int, int]] = []
        self._server = socket.socket(socket.AF_UNIX)
        self._server.bind(str(path))
        self._server.listen()
        self._thread = threading.Thread(target=self._serve, daemon=True)
        self._thread.start()

    def close(self) -> None:
        with contextlib.suppress(OSError):
            self._server.shutdown(socket.SHUT_RDWR)
        self._server.close()
        self._thread.join()

    def _serve(self) -> None:
        with contextlib.suppress(OSError):
            while True:
                line, _ = self._server.accept()
                with line:
                    self._talk(line)

    def _talk(self, line: socket.socket) -> None:
        message, escaped = bytearray(), False
        while piece := line.recv(4096):
            for byte in piece:
                if byte == ESCAPE:
                    escaped = True
                elif byte == COMMAND:
                    message.clear()
                elif byte == END:
                    self._answer(line, bytes(message[:-1]))
                    message.clear()
                else:
                    message.append(byte & ~0x10 if escaped else byte)
                    escaped = False

    def _answer(self, line: socket.socket, message: bytes) -> None:
        number, netfn, command = message[0], message[1] >> 2, message[2]
        self.asked.append((netfn, command))
        answer = bytes([number, (netfn | 1) << 2, command]) + self._reply(netfn, command, message[3:])
        answer += bytes([-sum(answer) & 0xFF])
        framed = b"".join(bytes([ESCAPE, b | 0x10]) if b in (END, COMMAND, ESCAPE) else bytes([b]) for b in answer)
        line.sendall(framed + bytes([END]))

    def _reply(self, netfn: int, command: int, data: bytes) -> bytes:
        if (netfn, command) == GET_DEVICE_ID:
            return bytes([0, 0x20, 1, 1, 0, 2, 0x80]) + bytes(5)
        if netfn == GROUP_EXTENSION and data[:1] == bytes([REDFISH]):
            if command == CREDENTIALS:
                return (
                    bytes([0, REDFISH]) + self.user.encode().ljust(16, b"\0") + self.password.encode().ljust(16, b"\0")
                )
            if command == FINGERPRINT:
                return bytes([0, REDFISH, SHA_256]) + bytes.fromhex(self.fingerprint)
        return bytes([INVALID])
