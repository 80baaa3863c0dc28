"""One aiohttp client for all controllers: verified TLS, bounded answers, one mapping of errors.

Trust: a controller's certificate is verified against the fleet's authority at first contact and
pinned from then on; every later connection must show the very same certificate. There is no way
to ignore a certificate. A controller may be named by a host name: it is resolved when used, every address
it resolves to is checked against the allowed networks, and the connection goes to the checked address.
"""

from __future__ import annotations

import asyncio
import errno
import hashlib
import ssl
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any
from urllib.parse import unquote, urlsplit

import aiohttp

from ordnung.controllers.answers import Answer, Json, MalformedError, parse_body
from ordnung.controllers.errors import ControllerError, LostAnswerError
from ordnung.controllers.trust import PinnedConnector, is_too_old, tell_certificate, unverified, widen
from ordnung.formats.addresses import Networks
from ordnung.formats.authorities import Authorities
from ordnung.formats.resolving import CheckedResolver, NotAllowedError

Body = Json | bytes | aiohttp.MultipartWriter


@dataclass(frozen=True, slots=True, kw_only=True)
class Limits:
    """Bounds against a slow or hostile controller."""

    answer_bytes: int = 4 * 1024 * 1024
    """The largest resource seen in the field is some 200 kB."""
    request_s: float = 30.0
    connect_s: float = 10.0
    upload_s: float = 600.0
    members: int = 2000
    """The most members of one collection that are followed."""
    per_host: int = 4
    """Connections to one controller at once; more makes small ones slower, not faster."""
    old_per_host: int = 2
    """The same for controllers too old to tell what they support."""
    read_tries: int = 3
    """How often a read is tried when the controller is busy or the line breaks. Only ever reads."""
    idle_s: float = 3.0
    """How long an idle connection is kept: a survey of thousands must not hold all of them open."""
    session_s: float = 60.0
    """How long a session that nobody uses is kept: a controller has few of them."""
    longest_wait_s: float = 30.0
    """A controller that asks for more than this is given up for now."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Endpoint:
    """Where a controller is and how to sign in. ``pin`` is the SHA-256 of its certificate in hex.

    ``system`` is the path of the server's own ComputerSystem behind a controller of several; None takes the only one.
    ``withheld`` says why there is no password to sign in with: then nothing is sent at all. ``uuid`` and ``serial`` are
    those of the server that is meant, as far as they are known: a reading of another one is refused.
    """

    name: str
    url: str
    user: str
    password: str = field(repr=False)
    pin: str | None = None
    system: str | None = None
    withheld: str = ""
    uuid: str | None = None
    serial: str | None = None


class Client:
    """Owns the connections. Use as an async context manager."""

    def __init__(
        self,
        ca: str | Authorities | None,
        limits: Limits | None = None,
        networks: Networks | None = None,
    ) -> None:
        """``ca`` is the path of the fleet's CA certificate; None trusts pinned certificates only.

        Args:
            networks: where controllers may be; None allows all.
        """
        self.limits = limits or Limits()
        verifying = (ca if isinstance(ca, Authorities) else Authorities(ca)).context()
        self.context = None if verifying is None else widen(verifying)
        self.resolver = CheckedResolver(networks)
        self._http: aiohttp.ClientSession | None = None
        self._shown: dict[str, bytes] = {}

    async def __aenter__(self) -> Client:
        connector = PinnedConnector(
            limit=0,
            limit_per_host=self.limits.per_host,
            keepalive_timeout=self.limits.idle_s,
            resolver=self.resolver,
            use_dns_cache=False,
        )
        timeout = aiohttp.ClientTimeout(total=self.limits.request_s, sock_connect=self.limits.connect_s)
        self._http = aiohttp.ClientSession(
            connector=connector, timeout=timeout, cookie_jar=aiohttp.DummyCookieJar(), trust_env=False
        )
        return self

    async def __aexit__(self, *_: object) -> None:
        if self._http is not None:
            await self._http.close()

    @property
    def http(self) -> aiohttp.ClientSession:
        """The open session. Raises RuntimeError outside the context."""
        if self._http is None:
            raise RuntimeError("the client is not open")
        return self._http

    def line(self, endpoint: Endpoint, pin: str) -> HttpLine:
        """The line to one controller that shows this very certificate."""
        return HttpLine(self, endpoint, pin)

    async def fetch_pin(self, endpoint: Endpoint) -> str:
        """The certificate's fingerprint after verifying it against the fleet's authority.

        Raises:
            ControllerError: unreachable, refused, too slow, or the certificate is not trusted.
        """
        if self.context is None:
            raise ControllerError(endpoint.name, "certificate invalid", "no authority and no pin are set")
        try:
            shown = await self._look(endpoint, self.context)
        except (OSError, TimeoutError) as error:
            found = map_errors(endpoint.name, error)
            if found.cause == "certificate invalid":
                found.seen = await self.see_pin(endpoint)
            raise found from None
        return self._remember(shown)

    def _remember(self, shown: bytes) -> str:
        pin = hashlib.sha256(shown).hexdigest()
        self._shown[pin] = shown
        return pin

    async def certificate(self, endpoint: Endpoint, pin: str) -> bytes | None:
        """The certificate behind a fingerprint, as DER; looked at once a fingerprint. None: it shows another now."""
        if pin not in self._shown:
            await self.see_pin(endpoint)
        return self._shown.get(pin)

    async def see_pin(self, endpoint: Endpoint) -> str:
        """The fingerprint a controller shows, unverified: to be shown to a person; nothing is sent to it.

        Raises:
            ControllerError: unreachable, refused, too slow, or no TLS.
        """
        try:
            return self._remember(await self._look(endpoint, unverified()))
        except (OSError, TimeoutError) as error:
            raise map_errors(endpoint.name, error) from None

    async def _look(self, endpoint: Endpoint, context: ssl.SSLContext) -> bytes:
        """The certificate shown in a TLS handshake; the connection is closed without a word."""
        parts = urlsplit(endpoint.url)
        host, port = unquote(parts.hostname or ""), parts.port or 443
        async with asyncio.timeout(self.limits.connect_s):
            writer = await self._connect(await self.resolver.addresses(host, port), host, port, context)
        try:
            shown: bytes = writer.get_extra_info("ssl_object").getpeercert(binary_form=True)
            return shown
        finally:
            writer.transport.abort()

    async def _connect(
        self, addresses: list[str], host: str, port: int, context: ssl.SSLContext
    ) -> asyncio.StreamWriter:
        """A connection to the first address that takes one."""
        named = host.partition("%")[0]
        for address in addresses[:-1]:
            try:
                return (await asyncio.open_connection(address, port, ssl=context, server_hostname=named))[1]
            except ssl.SSLError:
                raise
            except OSError:
                continue
        return (await asyncio.open_connection(addresses[-1], port, ssl=context, server_hostname=named))[1]


class HttpLine:
    """Requests to one controller over HTTPS, each sent once; whatever goes wrong comes out as a ControllerError."""

    def __init__(self, client: Client, endpoint: Endpoint, pin: str) -> None:
        self.client, self.endpoint, self.pin = client, endpoint, pin
        # One object for all requests: aiohttp keeps a connection only for the very same trust.
        self._trust = aiohttp.Fingerprint(bytes.fromhex(pin))
        self._host = _host_header(endpoint.url)
        # aiohttp takes the link of such an address as the system spells it, and not as addresses do (RFC 6874, 2).
        self._base = endpoint.url.rstrip("/").replace("%25", "%", 1) if self._host else endpoint.url.rstrip("/")

    @property
    def limits(self) -> Limits:
        """The bounds that hold on this line."""
        return self.client.limits

    async def ask(
        self, method: str, path: str, headers: Mapping[str, str], body: Body | None = None, *, acted: bool = False
    ) -> Answer:
        """One request and its answer.

        Args:
            acted: it changes the device: what goes wrong once it may have arrived is a LostAnswerError.

        Raises:
            ControllerError: with the cause.
        """
        name = self.endpoint.name
        if not path.startswith("/"):
            raise ControllerError(name, "malformed answer", f"{path[:80]!r} is not a path of its own")
        is_upload = isinstance(body, aiohttp.MultipartWriter | bytes)
        limit = self.limits.upload_s if is_upload else self.limits.request_s
        extra: dict[str, Any] = {"data": body} if is_upload else {"json": body} if body is not None else {}
        try:
            async with self.client.http.request(
                method,
                self._base + path,
                headers={**headers, **self._host},
                ssl=self._trust,
                timeout=aiohttp.ClientTimeout(total=limit, sock_connect=self.limits.connect_s),
                allow_redirects=False,
                **extra,
            ) as response:
                raw = await self._read(response)
                received = {key.lower(): value for key, value in response.headers.items()}
                return Answer(response.status, received, parse_body(raw, response.status))
        except MalformedError as error:
            # The device has answered: it took the request, only its words can't be read.
            kind = LostAnswerError if acted else ControllerError
            raise kind(name, "malformed answer", f"{path[:200]}: {error}") from None
        except (aiohttp.ClientError, OSError, TimeoutError, NotAllowedError) as error:
            raise map_errors(name, error, acted=acted) from None
        except (ValueError, LookupError) as error:  # what no one foresaw in headers, encodings and addresses
            kind = LostAnswerError if acted else ControllerError
            raise kind(name, "malformed answer", f"{path[:200]}: {type(error).__name__}") from error

    async def _read(self, response: aiohttp.ClientResponse) -> bytes:
        limit = self.limits.answer_bytes
        pieces, size = [], 0
        async for piece in response.content.iter_chunked(65536):
            size += len(piece)
            if size > limit:
                raise MalformedError(f"an answer of more than {limit} bytes")
            pieces.append(piece)
        return b"".join(pieces)


def _host_header(url: str) -> dict[str, str]:
    """For an address of one link (RFC 4007): on which of ours means nothing to whoever is there (RFC 6874, 4)."""
    parts = urlsplit(url)
    address, zone, _ = (parts.hostname or "").partition("%")
    return {"Host": f"[{address}]:{parts.port or 443}"} if zone else {}


def map_errors(server: str, error: BaseException, *, acted: bool = False) -> ControllerError:
    """The one translation of lower errors.

    Args:
        acted: the request changes the device and may have reached it.
    """
    barred = error if isinstance(error, NotAllowedError) else error.__cause__ or getattr(error, "os_error", None)
    if isinstance(barred, NotAllowedError):
        return ControllerError(server, "not allowed", str(barred))
    if isinstance(error, aiohttp.ServerFingerprintMismatch):
        seen = error.got.hex()
        detail = f"it showed {shorten(seen)}, known was {shorten(error.expected.hex())}"
        return ControllerError(server, "certificate changed", detail, seen=seen)
    if isinstance(error, ssl.SSLCertVerificationError | aiohttp.ClientConnectorCertificateError):
        return ControllerError(server, "certificate invalid", tell_certificate(error))
    if is_too_old(error):
        return ControllerError(server, "TLS too old", "it speaks no TLS 1.2, or no cipher of it that is still safe")
    if isinstance(error, ssl.SSLError | aiohttp.ClientConnectorSSLError):
        return ControllerError(server, "not Redfish", "it does not speak TLS")
    if isinstance(error, TimeoutError):
        kind = LostAnswerError if acted else ControllerError
        return kind(server, "too slow", "no answer in time")
    if _number(error) == errno.ECONNREFUSED:
        return ControllerError(server, "refused", "the connection was refused")
    if acted and not isinstance(error, aiohttp.ClientConnectorError):
        return LostAnswerError(server, "unreachable", "the connection died before the answer came")
    return ControllerError(server, "unreachable", _plain(error))


def _number(error: BaseException) -> int | None:
    if isinstance(error, aiohttp.ClientConnectorError):
        return error.os_error.errno
    return error.errno if isinstance(error, OSError) else None


def _plain(error: BaseException) -> str:
    if isinstance(error, aiohttp.ClientConnectorError):
        return str(error.os_error.strerror or error.os_error)
    return "the connection died"


def shorten(fingerprint: str) -> str:
    """The first and last bytes of a fingerprint, for messages."""
    return f"{fingerprint[:8]}…{fingerprint[-8:]}"
