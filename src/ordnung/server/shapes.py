"""The shapes of requests and answers, taken from frozen dataclasses: one class for a thing, from its query to the page.

An answer is a dataclass named ``…Row``; its name in the contract is without that ending. A request is a dataclass too:
what it tells beyond its fields is refused by name, never ignored.
"""

from __future__ import annotations

import dataclasses
import inspect
from collections.abc import Collection, Mapping
from typing import Any, TypeVar

import orjson
from drf_spectacular.contrib.rest_framework_dataclasses import OpenApiDataclassSerializerExtensions
from rest_framework import serializers
from rest_framework.exceptions import ValidationError
from rest_framework.renderers import BaseRenderer
from rest_framework.request import Request
from rest_framework.utils.encoders import JSONEncoder
from rest_framework_dataclasses.serializers import DataclassSerializer

from ordnung.formats.text import whole_number

MOST_SHOWN = 60
T = TypeVar("T")


class Shape(DataclassSerializer[Any]):
    """How a dataclass is read from a request and described in the contract; it knows its fields and no others."""

    @property
    def serializer_dataclass_field(self) -> type[Shape]:
        """What fields that are dataclasses are read by."""
        return Shape

    def to_internal_value(self, data: Any) -> Any:
        """Raises ValidationError for a field that is not known, besides what every serializer refuses."""
        if isinstance(data, Mapping):
            unknown = sorted(str(name) for name in data if name not in self.fields)
            if unknown:
                raise ValidationError({unknown[0][:MOST_SHOWN]: ["is no field of this request."]})
        return super().to_internal_value(data)


class ShapeInContract(OpenApiDataclassSerializerExtensions):  # type: ignore[no-untyped-call]
    """A row is called what it is a row of."""

    target_class = "ordnung.server.shapes.Shape"
    match_subclasses = True
    priority = 1

    def get_name(self) -> str:  # type: ignore[override]  # as the extension that it goes on from
        """The dataclass's name without ``Row``."""
        name: str = super().get_name()  # type: ignore[no-untyped-call]
        return name.removesuffix("Row")

    def map_serializer(self, auto_schema: Any, direction: Any) -> Any:
        """Its schema, described by what is written at the dataclass; what Python writes there itself says nothing."""
        schema = super().map_serializer(auto_schema, direction)
        row = self.target.dataclass_definition.dataclass_type
        schema.pop("description", None)
        if row.__doc__ and not row.__doc__.startswith(f"{row.__name__}("):
            schema["description"] = inspect.cleandoc(row.__doc__)
        return schema


def shape(row: type[Any]) -> type[Shape]:
    """The shape of a dataclass, for the contract of a view."""
    known = _shapes.get(row)
    if known is None:
        known = _shapes[row] = _make_shape(row)
    return known


_shapes: dict[type[Any], type[Shape]] = {}


def _make_shape(row: type[Any]) -> type[Shape]:
    values = {"Meta": type("Meta", (), {"dataclass": row}), "__module__": row.__module__, "__doc__": row.__doc__}
    return type(f"{row.__name__}Shape", (Shape,), values)


def row_from(row: type[T], source: object, /, **given: Any) -> T:
    """A row of what ``source`` has by the same names, but for what is given.

    Raises:
        AttributeError: ``source`` has nothing by the name of a field.
    """
    names = (each.name for each in dataclasses.fields(row) if each.name not in given)  # type: ignore[arg-type]
    return row(**{name: getattr(source, name) for name in names}, **given)


def read(row: type[T], source: Request | Mapping[str, Any]) -> T:
    """What a request asks, as a dataclass. Raises ValidationError that names the field."""
    body = shape(row)(data=source.data if isinstance(source, Request) else source)
    body.is_valid(raise_exception=True)
    value: T = body.validated_data
    return value


def read_given(row: type[Any], request: Request) -> dict[str, Any]:
    """The fields of ``row`` that a request gives, for changes of single values. Raises ValidationError likewise."""
    value = read(row, request)
    return {name: getattr(value, name) for name in request.data}


def limited(*, default: Any = dataclasses.MISSING, **limits: Any) -> Any:
    """A field of a request with limits: those of the serializer field, ``max_length`` and so on.

    ``default`` may be a factory. A default of None means that the field may be absent; null is refused unless
    ``allow_null`` is given.
    """
    kept = {"serializer_kwargs": {"allow_null": False, **limits} if default is None else limits}
    if callable(default):
        return dataclasses.field(default_factory=default, metadata=kept)
    return dataclasses.field(default=default, metadata=kept)


def spelled(pattern: str, *, default: Any = dataclasses.MISSING, **limits: Any) -> Any:
    """A text that is spelled as a regular expression says."""
    text = serializers.RegexField(pattern, required=default is dataclasses.MISSING, **limits)
    return dataclasses.field(default=default, metadata={"serializer_field": text})


def all_spelled(pattern: str, **limits: Any) -> Any:
    """A list, empty by default, of texts that are spelled as a regular expression says."""
    texts = serializers.ListField(child=serializers.RegexField(pattern), required=False, **limits)
    return dataclasses.field(default_factory=list, metadata={"serializer_field": texts})


def one_of(choices: Collection[Any], *, default: Any = dataclasses.MISSING) -> Any:
    """A field that is one of some words."""
    chosen = serializers.ChoiceField(choices=list(choices), required=default is dataclasses.MISSING)
    return dataclasses.field(default=default, metadata={"serializer_field": chosen})


def some_of(choices: Collection[Any], *, default: Any = dataclasses.MISSING, **limits: Any) -> Any:
    """A list of some words."""
    one = serializers.ChoiceField(choices=list(choices))
    chosen = serializers.ListField(child=one, required=default is dataclasses.MISSING, **limits)
    return dataclasses.field(default=default, metadata={"serializer_field": chosen})


def anything() -> Any:
    """A field that holds any JSON."""
    return dataclasses.field(metadata={"serializer_field": serializers.JSONField()})


def upload(*, default: Any = dataclasses.MISSING) -> Any:
    """A field that holds a file."""
    file = serializers.FileField(required=default is dataclasses.MISSING)
    return dataclasses.field(default=default, metadata={"serializer_field": file})


class RowRenderer(BaseRenderer):
    """JSON of rows (RFC 8259): a dataclass is an object of its fields. No serializer goes over an answer again."""

    media_type = "application/json"
    format = "json"
    charset = None

    def render(self, data: Any, accepted_media_type: str | None = None, renderer_context: Any = None) -> bytes:
        """Nothing for an answer without a body. Raises TypeError for what has no JSON."""
        return b"" if data is None else write_json(data)


def write_json(data: Any) -> bytes:
    """Rows as they are sent. Raises TypeError for what has no JSON."""
    return orjson.dumps(data, default=_spell, option=orjson.OPT_UTC_Z)


def _spell(value: Any) -> Any:
    """What orjson does not know: lazy texts and others of the frameworks."""
    return JSONEncoder().default(value)


def asked_number(asked: Mapping[str, str], name: str, default: int) -> int:
    """A whole number of an address's query; the default where it is missing or is none."""
    number = whole_number(asked.get(name, ""))
    return default if number is None else number
