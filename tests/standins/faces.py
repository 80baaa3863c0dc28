"""The two faces of a stand-in, asked in the same way: in process and over HTTPS."""

from __future__ import annotations

import json
import ssl
import urllib.error
import urllib.request
from base64 import b64encode
from urllib.parse import parse_qsl, quote

from ordnung.standins.redfish import Request, Service

BASIC = "Basic " + b64encode(b"ordnung:kelp-and-slate").decode()
LISTENED = ("odata-version", "etag", "allow", "link", "location", "www-authenticate", "retry-after", "content-type", "cache-control")  # fmt: skip


class Direct:
    """Asks the service without a wire."""

    def __init__(self, live, name):
        self.device, self.service = live.device(name), Service()

    def ask(self, method, path, body=None, **headers):
        at, _, query = path.partition("?")
        reply = self.service.answer(self.device, Request(
            method=method, path=at, query=dict(parse_qsl(query)), headers=spell(body, headers),
            body=raw_of(body),
        ))  # fmt: skip
        return reply.status, lower(reply.headers), load(reply.body)


class Https:
    """Asks over the wire with the standard library, which knows nothing of our client."""

    def __init__(self, live, name):
        self.device = live.device(name)
        self.url, self.context = live.floor.urls[name], ssl.create_default_context(cafile=live.ca)

    def ask(self, method, path, body=None, **headers):
        data = raw_of(body) if body is not None else None
        url = self.url + quote(path, safe="/?&=$().,~*")
        request = urllib.request.Request(url, data, spell(body, headers), method=method)
        try:
            with urllib.request.urlopen(request, context=self.context) as answer:
                return answer.status, lower(answer.headers), load(answer.read())
        except urllib.error.HTTPError as error:
            return error.code, lower(error.headers), load(error.read())


FACES = {"in process": Direct, "https": Https}


def raw_of(body) -> bytes:
    return body if isinstance(body, bytes) else b"" if body is None else json.dumps(body).encode()


def spell(body, headers) -> dict[str, str]:
    found = {name.replace("_", "-").lower(): value for name, value in headers.items()}
    return {"content-type": "application/json", **found} if body is not None else found


def lower(headers) -> dict[str, str]:
    return {name.lower(): value for name, value in headers.items()}


def load(raw: bytes):
    return json.loads(raw) if raw[:1] == b"{" else raw


def links(value, skip=("Links", "Actions")) -> list[str]:
    """Every ``@odata.id`` in a body."""
    if isinstance(value, dict):
        own = [value["@odata.id"]] if "@odata.id" in value else []
        return own + [link for child in value.values() for link in links(child)]
    return [link for child in value for link in links(child)] if isinstance(value, list) else []


def crawl(ask, start="/redfish/v1") -> dict[str, dict]:
    """Every resource that can be reached, by path."""
    seen, todo = {}, [start]
    while todo:
        path = todo.pop().split("#")[0].rstrip("/")
        if path in seen:
            continue
        status, headers, body = ask("GET", path, Authorization=BASIC)
        assert status == 200, path
        seen[path] = {"headers": headers, "body": body}
        todo += links(body)
    return seen
