"""What the API says of servers."""

from __future__ import annotations

from rest_framework import serializers


class CellSerializer(serializers.Serializer):
    kind = serializers.CharField()
    letter = serializers.CharField()
    verdict = serializers.CharField()
    behind = serializers.IntegerField()
    versions = serializers.CharField()
    target = serializers.CharField(allow_null=True)
    product = serializers.CharField(allow_null=True)
    name = serializers.CharField()
    count = serializers.IntegerField()
    lagging = serializers.IntegerField()
    waiting = serializers.CharField(allow_null=True)
    via = serializers.ListField(child=serializers.CharField())
    reason = serializers.CharField()
    importance = serializers.CharField(allow_null=True)


class FailureSerializer(serializers.Serializer):
    server = serializers.CharField()
    cause = serializers.CharField()
    detail = serializers.CharField()
    remedy = serializers.CharField()


class ServerSerializer(serializers.Serializer):
    name = serializers.CharField()
    model = serializers.CharField()
    serial = serializers.CharField(allow_null=True)
    room = serializers.CharField()
    rack = serializers.CharField()
    unit = serializers.IntegerField()
    height = serializers.IntegerField()
    role = serializers.CharField()
    group = serializers.CharField(allow_null=True)
    may_be_away = serializers.IntegerField(allow_null=True)
    read_at = serializers.DateTimeField(allow_null=True)
    failure = FailureSerializer(allow_null=True)
    cells = CellSerializer(many=True)
    signature = serializers.CharField()
    resets = serializers.CharField()
    outages = serializers.IntegerField()
    off = serializers.IntegerField()
    exposed = serializers.IntegerField()
    components = serializers.IntegerField()
    running = serializers.IntegerField(allow_null=True)


class ComponentSerializer(serializers.Serializer):
    slot = serializers.CharField()
    kind = serializers.CharField()
    letter = serializers.CharField()
    name = serializers.CharField()
    product = serializers.CharField(allow_null=True)
    version = serializers.CharField(allow_null=True)
    waiting = serializers.CharField(allow_null=True)
    banks = serializers.ListField(child=serializers.CharField())
    target = serializers.CharField(allow_null=True)
    verdict = serializers.CharField()
    behind = serializers.IntegerField(allow_null=True)
    importance = serializers.CharField(allow_null=True)
    since = serializers.CharField(allow_null=True)
    fixes = serializers.ListField(child=serializers.CharField())
    reason = serializers.CharField()


class PlannedWriteSerializer(serializers.Serializer):
    slot = serializers.CharField()
    product = serializers.CharField()
    source = serializers.CharField()  # type: ignore[assignment]  # a field by that name, not the option
    to = serializers.CharField()


class RoundSerializer(serializers.Serializer):
    writes = PlannedWriteSerializer(many=True)
    reset = serializers.CharField(allow_null=True)


class StrandedSerializer(serializers.Serializer):
    slot = serializers.CharField()
    reason = serializers.CharField()


class ServerDetailSerializer(ServerSerializer):
    url = serializers.CharField()
    user = serializers.CharField()
    pin = serializers.CharField(allow_null=True)
    seen_pin = serializers.CharField(allow_null=True)
    parts = ComponentSerializer(many=True)
    rounds = RoundSerializer(many=True)
    stranded = StrandedSerializer(many=True)
    proof = serializers.CharField()
    readings = serializers.IntegerField()


class CredentialsSerializer(serializers.Serializer):
    user = serializers.CharField(max_length=200)
    password = serializers.CharField(max_length=500, write_only=True, trim_whitespace=False)


class TrustSerializer(serializers.Serializer):
    pin = serializers.RegexField(r"^[0-9a-f]{64}$")


class NewServerSerializer(CredentialsSerializer):
    name = serializers.RegexField(r"^[A-Za-z0-9][A-Za-z0-9._-]{0,99}$")
    url = serializers.RegexField(r"^https://[A-Za-z0-9.:\[\]-]+$", max_length=300)
    rack = serializers.CharField(max_length=20, required=False, default="")
    unit = serializers.IntegerField(min_value=0, max_value=100, required=False, default=0)


class NamesSerializer(serializers.Serializer):
    """Servers by name; none means all."""

    servers = serializers.ListField(child=serializers.CharField(max_length=200), required=False, max_length=10000)
