"""One aiohttp client for all controllers: verified TLS, bounded answers, one mapping of errors.

Trust: a controller's certificate is verified against the fleet's authority at first contact and
pinned from then on; every later connection must show the very same certificate. There is no way
to ignore a certificate.
"""

from __future__ import annotations

import asyncio
import errno
import hashlib
import json
import ssl
from collections.abc import AsyncIterator, Awaitable, Callable, Mapping
from contextlib import asynccontextmanager
from dataclasses import dataclass, field
from typing import Any
from urllib.parse import urlsplit

import aiohttp

from ordnung.controllers.errors import ControllerError, LostAnswerError
from ordnung.controllers.pace import Pace

Json = dict[str, Any]


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
    longest_wait_s: float = 30.0
    """A controller that asks for more than this is given up for now."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Endpoint:
    """Where a controller is and how to sign in. ``pin`` is the SHA-256 of its certificate in hex."""

    name: str
    url: str
    user: str
    password: str = field(repr=False)
    pin: str | None = None


class Client:
    """Owns the connections. Use as an async context manager."""

    def __init__(self, ca: str | None, limits: Limits | None = None) -> None:
        """``ca`` is the path of the fleet's CA certificate; None trusts pinned certificates only."""
        self.limits = limits or Limits()
        self.context = ssl.create_default_context(cafile=ca) if ca else None
        self._http: aiohttp.ClientSession | None = None
        self._shown: dict[str, bytes] = {}

    async def __aenter__(self) -> Client:
        connector = aiohttp.TCPConnector(
            limit=0, limit_per_host=self.limits.per_host, keepalive_timeout=self.limits.idle_s
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
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
        context.check_hostname, context.verify_mode = False, ssl.CERT_NONE
        try:
            return self._remember(await self._look(endpoint, context))
        except (OSError, TimeoutError) as error:
            raise map_errors(endpoint.name, error) from None

    async def _look(self, endpoint: Endpoint, context: ssl.SSLContext) -> bytes:
        """The certificate shown in a TLS handshake; the connection is closed without a word."""
        parts = urlsplit(endpoint.url)
        async with asyncio.timeout(self.limits.connect_s):
            _, writer = await asyncio.open_connection(parts.hostname, parts.port or 443, ssl=context)
        try:
            shown: bytes = writer.get_extra_info("ssl_object").getpeercert(binary_form=True)
            return shown
        finally:
            writer.transport.abort()


def map_errors(server: str, error: BaseException, *, acted: bool = False) -> ControllerError:
    """The one translation of lower errors.

    Args:
        acted: the request changes the device and may have reached it.
    """
    if isinstance(error, aiohttp.ServerFingerprintMismatch):
        seen = error.got.hex()
        detail = f"it showed {shorten(seen)}, known was {shorten(error.expected.hex())}"
        return ControllerError(server, "certificate changed", detail, seen=seen)
    if isinstance(error, ssl.SSLCertVerificationError | aiohttp.ClientConnectorCertificateError):
        return ControllerError(server, "certificate invalid", "it was not issued by the fleet's authority")
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


@dataclass(frozen=True, slots=True)
class Answer:
    """One answer: status, headers and the JSON body (empty when there is none)."""

    status: int
    headers: Mapping[str, str]
    body: Json


class Session:
    """A signed-in session with one controller."""

    def __init__(self, client: Client, endpoint: Endpoint, pin: str) -> None:
        self.client, self.endpoint, self.pin = client, endpoint, pin
        # One object for all requests: aiohttp keeps a connection only for the very same trust.
        self._trust = aiohttp.Fingerprint(bytes.fromhex(pin))
        self.token: str | None = None
        self.location: str | None = None
        self.pace = Pace(client.limits.old_per_host)

    async def get(self, path: str) -> Json:
        """The resource at ``path``. Raises ControllerError for anything but a JSON object."""
        answer = await self._read_patiently(path)
        self._judge(answer, path)
        return answer.body

    def bears_more(self) -> None:
        """The controller is of a newer kind: more requests at once are worth a try."""
        self.pace.raise_ceiling(self.client.limits.per_host)

    async def _read_patiently(self, path: str) -> Answer:
        """A read, again when the controller is busy or the line breaks, at the pace the controller bears."""
        for attempt in range(1, self.client.limits.read_tries + 1):
            last = attempt == self.client.limits.read_tries
            async with self.pace:
                try:
                    answer = await self._ask("GET", path)
                except ControllerError as error:
                    self.pace.slow_down()
                    if last or error.cause != "unreachable":
                        raise
                    continue
            if answer.status != 503 or last:
                return answer
            self.pace.slow_down()
            wait = retry_after(answer)
            if wait > self.client.limits.longest_wait_s:
                return answer
            await asyncio.sleep(wait)
        raise AssertionError("unreachable")

    async def find(self, path: str | None) -> Json | None:
        """Like ``get``, but None for no path and for 404: optional resources may be missing."""
        if path is None:
            return None
        answer = await self._read_patiently(path)
        if answer.status in (404, 410):
            return None
        self._judge(answer, path)
        return answer.body

    async def members(self, path: str | None) -> list[str]:
        """The paths of a collection's members, following ``nextLink`` up to the limit."""
        return await follow_members(self.find, path, self.client.limits.members)

    async def act(self, path: str, body: Json | bytes | aiohttp.MultipartWriter, method: str = "POST") -> Answer:
        """Send something that changes the device; sent once, never repeated here.

        Raises:
            LostAnswerError: it may have been acted upon: ask the device before anything else.
            ControllerError: it was certainly not acted upon.
        """
        answer = await self._ask(method, path, body, acted=True)
        self._judge(answer, path)
        return answer

    async def sign_in(self) -> None:
        """Open a Redfish session. Raises ControllerError (signed out) when the credentials are wrong."""
        credentials = {"UserName": self.endpoint.user, "Password": self.endpoint.password}
        answer = await self._ask("POST", "/redfish/v1/SessionService/Sessions", credentials)
        if answer.status in (400, 401, 403):
            detail = f"it refused user {self.endpoint.user}"
            raise ControllerError(self.endpoint.name, "signed out", detail)
        if answer.status != 201 or "X-Auth-Token" not in answer.headers:
            raise ControllerError(self.endpoint.name, "not Redfish", f"it answered {answer.status} to the sign-in")
        self.token, self.location = answer.headers["X-Auth-Token"], answer.headers.get("Location")

    async def sign_out(self) -> None:
        """Close the session; a controller that is away by now has forgotten it anyway."""
        if self.token is not None and self.location is not None:
            try:
                async with asyncio.timeout(5):
                    await self._ask("DELETE", urlsplit(self.location).path)
            except (ControllerError, TimeoutError):
                return

    async def _ask(
        self,
        method: str,
        path: str,
        body: Json | bytes | aiohttp.MultipartWriter | None = None,
        *,
        acted: bool = False,
    ) -> Answer:
        if not path.startswith("/"):
            raise ControllerError(self.endpoint.name, "malformed answer", f"{path[:80]!r} is not a path")
        headers = {"OData-Version": "4.0", "Accept": "application/json"}
        if self.token is not None:
            headers["X-Auth-Token"] = self.token
        upload = isinstance(body, aiohttp.MultipartWriter | bytes)
        if isinstance(body, bytes):
            headers["Content-Type"] = "application/octet-stream"
        limit = self.client.limits.upload_s if upload else self.client.limits.request_s
        extra: dict[str, Any] = {"data": body} if upload else {"json": body} if body is not None else {}
        try:
            async with self.client.http.request(
                method,
                self.endpoint.url.rstrip("/") + path,
                headers=headers,
                ssl=self._trust,
                timeout=aiohttp.ClientTimeout(total=limit, sock_connect=self.client.limits.connect_s),
                allow_redirects=False,
                **extra,
            ) as response:
                raw = await self._read(response)
                return Answer(response.status, response.headers.copy(), self._json(response, raw, path))
        except (aiohttp.ClientError, OSError, TimeoutError) as error:
            raise map_errors(self.endpoint.name, error, acted=acted) from None

    async def _read(self, response: aiohttp.ClientResponse) -> bytes:
        limit = self.client.limits.answer_bytes
        pieces, size = [], 0
        async for piece in response.content.iter_chunked(65536):
            size += len(piece)
            if size > limit:
                raise ControllerError(self.endpoint.name, "malformed answer", f"an answer of more than {limit} bytes")
            pieces.append(piece)
        return b"".join(pieces)

    def _json(self, response: aiohttp.ClientResponse, raw: bytes, path: str) -> Json:
        if not raw.strip():
            return {}
        try:
            body = json.loads(raw)
        except (ValueError, RecursionError):
            body = None
        if not isinstance(body, dict):
            if response.status >= 400:
                return {}
            raise ControllerError(self.endpoint.name, "malformed answer", f"{path} is not a JSON object")
        return body

    def _judge(self, answer: Answer, path: str) -> None:
        if answer.status < 300:
            return
        name, told = self.endpoint.name, error_text(answer.body)
        if answer.status == 401:
            raise ControllerError(name, "signed out", "the session ended")
        if answer.status == 403:
            raise ControllerError(name, "no permission", told or path)
        if answer.status == 503:
            raise ControllerError(name, "busy", told or "it is busy", retry_after_s=retry_after(answer))
        if answer.status < 500:
            raise ControllerError(name, "said no", told or f"{answer.status} at {path}")
        raise ControllerError(name, "malformed answer", told or f"{answer.status} at {path}")


def retry_after(answer: Answer) -> float:
    """How long a busy controller asks to be left alone, in seconds."""
    after = answer.headers.get("Retry-After", "30")
    return float(after) if after.isdigit() else 30.0


async def follow_members(find: Callable[[str], Awaitable[Json | None]], path: str | None, limit: int) -> list[str]:
    """The paths of a collection's members, page after page, up to a limit."""
    paths: list[str] = []
    seen: set[str] = set()
    while path is not None and path not in seen and len(paths) < limit:
        seen.add(path)
        collection = await find(path)
        if collection is None:
            break
        members = collection.get("Members")
        paths += [link for link in map(link_of, members if isinstance(members, list) else ()) if link]
        following = collection.get("Members@odata.nextLink")
        path = following if isinstance(following, str) else None
    return paths[:limit]


def link_of(value: object) -> str | None:
    """The ``@odata.id`` of a link object, or None."""
    link = value.get("@odata.id") if isinstance(value, dict) else None
    return link if isinstance(link, str) else None


def error_text(body: Json) -> str:
    """What a Redfish error body says, shortened; the first extended message if there is one."""
    error = body.get("error")
    if not isinstance(error, dict):
        return ""
    infos = error.get("@Message.ExtendedInfo")
    first = infos[0] if isinstance(infos, list) and infos and isinstance(infos[0], dict) else {}
    return str(first.get("Message") or error.get("message") or "")[:300]


@asynccontextmanager
async def open_session(client: Client, endpoint: Endpoint) -> AsyncIterator[Session]:
    """Verify or pin the certificate, sign in, and sign out at the end."""
    pin = endpoint.pin or await client.fetch_pin(endpoint)
    session = Session(client, endpoint, pin)
    await session.sign_in()
    try:
        yield session
    finally:
        await session.sign_out()
