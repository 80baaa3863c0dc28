"""The shapes of requests and answers: what a request tells beyond its shape is refused by name, never ignored."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from rest_framework import serializers
from rest_framework.exceptions import ValidationError

from ordnung.formats.text import whole_number

MOST_SHOWN = 60


def asked_number(asked: Mapping[str, str], name: str, default: int) -> int:
    """A whole number of an address's query; the default where it is missing or is none."""
    number = whole_number(asked.get(name, ""))
    return default if number is None else number


class StrictSerializer(serializers.Serializer):
    """A serializer that knows its fields and no others."""

    def to_internal_value(self, data: Any) -> Any:
        """Raises ValidationError for a field that is not known, besides what every serializer refuses."""
        if isinstance(data, Mapping):
            unknown = sorted(str(name) for name in data if name not in self.fields)
            if unknown:
                raise ValidationError({unknown[0][:MOST_SHOWN]: ["is no field of this request."]})
        return super().to_internal_value(data)
