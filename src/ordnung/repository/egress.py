"""The way out of the house: HTTPS to mirrors, verified, to allowed addresses only, and never where a redirect leads."""

from __future__ import annotations

import http.client
import socket
import ssl
import urllib.request
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from dataclasses import dataclass
from typing import Any
from urllib.parse import urlsplit

import aiohttp

from ordnung.formats.addresses import Networks
from ordnung.formats.authorities import Authorities, authorities
from ordnung.formats.resolving import CheckedResolver, NotAllowedError, resolve_checked
from ordnung.store.errors import RepositoryError

AT_ONCE_A_HOST = 4


@dataclass(frozen=True, slots=True)
class Egress:
    """Who vouches for mirrors, and the networks in which they and proxies may be; None allows all."""

    vouched_by: Authorities
    networks: Networks | None = None

    def context(self) -> ssl.SSLContext:
        """The context that every connection is verified with."""
        return self.vouched_by.context() or ssl.create_default_context()


Way = Egress | Authorities | str | None
"""As a caller gives it: whole, or the authority alone, by its path; None stands for the system's."""


def egress_of(way: Way) -> Egress:
    """The whole of what a caller gave."""
    return way if isinstance(way, Egress) else Egress(authorities(way))


class MirrorLine:
    """HTTPS to mirrors and to the house's hooks, many at once. Use as an async context manager."""

    def __init__(self, way: Way, timeout: aiohttp.ClientTimeout) -> None:
        """``timeout`` holds for each request."""
        self.egress, self._timeout = egress_of(way), timeout
        self._context = self.egress.context()
        self._resolver = CheckedResolver(self.egress.networks)
        self._http: aiohttp.ClientSession | None = None

    async def __aenter__(self) -> MirrorLine:
        connector = aiohttp.TCPConnector(
            limit=0, limit_per_host=AT_ONCE_A_HOST, resolver=self._resolver, use_dns_cache=False
        )
        self._http = aiohttp.ClientSession(timeout=self._timeout, connector=connector, trust_env=False)
        return self

    async def __aexit__(self, *_: object) -> None:
        if self._http is not None:
            await self._http.close()

    @asynccontextmanager
    async def ask(
        self, url: str, headers: dict[str, str], proxy: str = "", *, name: str = "", body: bytes | None = None
    ) -> AsyncIterator[aiohttp.ClientResponse]:
        """One answer, whatever its status; a redirect is an answer like any other. A ``body`` is posted.

        Raises:
            RepositoryError: ``unreachable``, also while the body is read; ``foreign``: not https, or the
                address is not one that this house goes out to.
        """
        assert self._http is not None
        if urlsplit(url).scheme != "https":
            raise RepositoryError("foreign", name, "it is not at an https address")
        try:
            await self._check(proxy or url)
            asked = self._http.request(
                "GET" if body is None else "POST",
                url,
                data=body,
                ssl=self._context,
                headers=headers,
                proxy=proxy or None,
                allow_redirects=False,
            )
            async with asked as answer:
                yield answer
        except NotAllowedError:
            raise RepositoryError("foreign", name, BARRED) from None
        except aiohttp.ClientPayloadError:
            raise
        except (aiohttp.ClientError, TimeoutError) as error:
            raise RepositoryError("unreachable", name, tell(error, proxy)) from None

    async def _check(self, url: str) -> None:
        """What is written as an address is not resolved by the library, so it is checked here."""
        parts = urlsplit(url)
        try:
            await self._resolver.addresses(parts.hostname or "", parts.port or 443)
        except NotAllowedError:
            raise
        except OSError as error:
            raise aiohttp.ClientConnectionError(str(error)) from None


BARRED = "its address is not in the networks that this house goes out to (ORDNUNG_EGRESS)"
UNREACHABLE = "the mirror can't be reached"


def tell(error: Exception, proxy: str) -> str:
    """What went wrong on the way to a mirror, in words that tell nobody what else is at an address."""
    if isinstance(error, aiohttp.ClientConnectorCertificateError | ssl.SSLCertVerificationError):
        return "the mirror's certificate is not one this site trusts"
    if proxy and isinstance(error, aiohttp.ClientProxyConnectionError | aiohttp.ClientHttpProxyError):
        return f"the proxy {proxy} can't be reached or refuses ({type(error).__name__})"
    return UNREACHABLE


class _Handler(urllib.request.HTTPSHandler):
    """Connects to addresses that were checked, of hosts and proxies alike."""

    def __init__(self, egress: Egress) -> None:
        context = egress.context()
        super().__init__(context=context)
        self._networks, self._verified_by = egress.networks, context

    def https_open(self, req: urllib.request.Request) -> http.client.HTTPResponse:
        return self.do_open(self._connection, req)

    def _connection(self, host: str, **more: Any) -> http.client.HTTPSConnection:
        made = http.client.HTTPSConnection(host, context=self._verified_by, **more)
        made._create_connection = self._connect  # type: ignore[attr-defined]
        return made

    def _connect(self, address: tuple[str, int], *more: Any) -> socket.socket:
        host, port = address
        last: OSError = OSError("no address")
        for found in resolve_checked(host, port, self._networks):
            try:
                return socket.create_connection((found, port), *more)
            except OSError as error:
                last = error
        raise last


class _NoRedirects(urllib.request.HTTPRedirectHandler):
    def redirect_request(self, *_: Any) -> None:
        """Nowhere: an index or a payload lies where the house was told, or not at all."""


def open_blocking(way: Way, proxy: str = "") -> urllib.request.OpenerDirector:
    """The same way out for callers that block: https only, verified, checked, without redirects."""
    egress = egress_of(way)
    proxies = urllib.request.ProxyHandler({"https": proxy} if proxy else {})
    opener = urllib.request.OpenerDirector()
    for handler in (
        proxies,
        _Handler(egress),
        _NoRedirects(),
        urllib.request.HTTPErrorProcessor(),
        urllib.request.HTTPDefaultErrorHandler(),
    ):
        opener.add_handler(handler)
    return opener
