"""Answers in JSON are compressed for whoever takes it; files and streams go as they are."""

from __future__ import annotations

from django.http import HttpRequest
from django.http.response import HttpResponseBase
from django.middleware.gzip import GZipMiddleware


class CompressedJson(GZipMiddleware):
    """Django's own, for JSON alone: downloads have their ranges, and events must not wait for a block to fill."""

    def process_response(self, request: HttpRequest, response: HttpResponseBase) -> HttpResponseBase:
        if response.streaming or "json" not in response.headers.get("Content-Type", ""):
            return response
        return super().process_response(request, response)
