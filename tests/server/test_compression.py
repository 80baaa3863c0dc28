"""What goes over the line goes small, where that harms nothing."""

from __future__ import annotations

import gzip
import json

import pytest
from django.http import HttpResponse, StreamingHttpResponse
from django.test import RequestFactory

from ordnung.server.compression import CompressedJson
from tests.server.test_api import add_server

pytestmark = pytest.mark.django_db
ZIPPED = {"HTTP_ACCEPT_ENCODING": "gzip, br"}


def test_json_is_compressed_for_who_takes_it_and_known_again(web):
    for number in range(40):
        add_server(f"surge-{number:02}")
    plain, small = web.get("/api/v1/floor"), web.get("/api/v1/floor", **ZIPPED)
    assert "Content-Encoding" not in plain and small["Content-Encoding"] == "gzip"
    assert json.loads(gzip.decompress(small.content)) == plain.json()
    assert len(small.content) < len(plain.content) / 2 and "Accept-Encoding" in small["Vary"]
    for tag in (plain["ETag"], small["ETag"], f'"other", {small["ETag"]}'):
        assert web.get("/api/v1/floor", HTTP_IF_NONE_MATCH=tag, **ZIPPED).status_code == 304, tag
    assert web.get("/api/v1/floor", HTTP_IF_NONE_MATCH='"other"').status_code == 200


def test_files_and_streams_go_as_they_are(web):
    """Downloads have their ranges, and an event must not wait for a block to fill."""
    wrap = CompressedJson(lambda request: None)
    request = RequestFactory().get("/", **ZIPPED)
    stream = StreamingHttpResponse(iter([b"data: {}\n\n" * 100]), content_type="text/event-stream")
    for response in (stream, HttpResponse(bytes(4000), content_type="application/octet-stream")):
        assert "Content-Encoding" not in wrap.process_response(request, response)
    refused = HttpResponse(json.dumps({"detail": "x" * 4000}), status=422, content_type="application/problem+json")
    assert wrap.process_response(request, refused)["Content-Encoding"] == "gzip"
