"""A house on the database without devices: the scenario's hardware as readings, signed in and judged."""

from __future__ import annotations

import dataclasses
import json
from typing import Any

from ordnung.demo.fleet import as_reading
from ordnung.server.clock import now
from ordnung.server.fleet.models import Group, Server
from ordnung.server.fleet.readings import store_reading
from ordnung.standins.scenario import PLACES, demo_hardware

FEW = ("surge-03", "surge-07", "surge-09", "gauge-04", "vault-03", "sump-01", "watch-01", "surge-08")


def fill(names=FEW) -> None:
    """Servers of the scenario with one reading each."""
    moment = now()
    places = {place.name: place for place in PLACES if place.name in names}
    for device in demo_hardware(moment.timestamp, list(places.values())):
        place = places[device.name]
        group = Group.objects.get_or_create(name=place.group, defaults={"may_be_away": 4})[0]
        row = Server(
            name=place.name,
            url=f"https://127.20.1.{place.unit}:8443",
            user="u",
            room=place.room,
            rack=place.rack,
            unit=place.unit,
            group=group,
        )
        row.set_password("p")
        row.save()
        value = as_reading(device, moment)
        waiting = {part.slot: part.waiting for part in device.parts if part.waiting}
        parts = tuple(dataclasses.replace(c, waiting=waiting.get(c.slot)) for c in value.components)
        store_reading(dataclasses.replace(value, components=parts), "ab" * 32)


class Person:
    """Someone at the API: answers as JSON, refusals as (status, problem)."""

    def __init__(self, web) -> None:
        self.web = web

    def get(self, path: str) -> Any:
        return self._told(self.web.get(f"/api/v1/{path}"))

    def post(self, path: str, body: Any = None) -> Any:
        return self._told(self.web.post(f"/api/v1/{path}", json.dumps(body or {}), content_type="application/json"))

    def put(self, path: str, body: Any) -> Any:
        return self._told(self.web.put(f"/api/v1/{path}", json.dumps(body), content_type="application/json"))

    def patch(self, path: str, body: Any) -> Any:
        return self._told(self.web.patch(f"/api/v1/{path}", json.dumps(body), content_type="application/json"))

    def delete(self, path: str) -> Any:
        return self._told(self.web.delete(f"/api/v1/{path}"))

    def send(self, path: str, **files: tuple[str, bytes]) -> Any:
        from django.core.files.uploadedfile import SimpleUploadedFile

        return self._told(
            self.web.post(f"/api/v1/{path}", {key: SimpleUploadedFile(*file) for key, file in files.items()})
        )

    @staticmethod
    def _told(answer) -> Any:
        body = json.loads(answer.content) if answer.content else None
        return body if answer.status_code < 400 else (answer.status_code, body)
