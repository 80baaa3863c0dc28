"""The HTTP server below the stand-ins: what its parser refuses before any resource is asked."""

from __future__ import annotations

from aiohttp import web
from aiohttp.http_exceptions import BadHttpMethod

from ordnung.standins.redfish.service import not_implemented


class _Protocol(web.RequestHandler):
    """Answers a method that the parser has never heard of as HTTP asks (RFC 9110, 15.6.2): 501, not a bad request."""

    __slots__ = ()

    def handle_error(
        self, request: web.BaseRequest, status: int = 500, exc: BaseException | None = None, message: str | None = None
    ) -> web.StreamResponse:
        if not isinstance(exc, BadHttpMethod):
            return super().handle_error(request, status, exc, message)
        reply = not_implemented("the method")
        answer = web.Response(status=reply.status, headers=reply.headers, body=reply.body)
        answer.force_close()
        return answer


class _Server(web.Server):
    def __call__(self) -> web.RequestHandler:
        return _Protocol(self, loop=self._loop, **self._kwargs)


class Runner(web.AppRunner):
    """Runs an application on these connections."""

    __slots__ = ()

    async def _make_server(self) -> web.Server:
        made = await super()._make_server()
        return _Server(made.request_handler, request_factory=made.request_factory, loop=made._loop, **made._kwargs)
