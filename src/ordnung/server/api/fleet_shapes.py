"""What the API says of servers."""

from __future__ import annotations

from rest_framework import serializers

from ordnung.server.shapes import StrictSerializer


class CellSerializer(StrictSerializer):
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


class FailureSerializer(StrictSerializer):
    server = serializers.CharField()
    cause = serializers.CharField()
    detail = serializers.CharField()
    remedy = serializers.CharField()


class ServerSerializer(StrictSerializer):
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
    tags = serializers.ListField(child=serializers.CharField())
    lost = serializers.IntegerField()
    seen_pin = serializers.CharField(allow_null=True)


class ServerPageSerializer(StrictSerializer):
    total = serializers.IntegerField()
    offset = serializers.IntegerField()
    servers = ServerSerializer(many=True)


class HindranceSerializer(StrictSerializer):
    what = serializers.CharField()
    seen = serializers.CharField()
    remedy = serializers.CharField()
    stops = serializers.BooleanField()


class ReachWaySerializer(StrictSerializer):
    way = serializers.CharField()
    open = serializers.BooleanField(allow_null=True)
    seen = serializers.CharField()
    remedy = serializers.CharField()


class LostPartSerializer(StrictSerializer):
    slot = serializers.CharField()
    kind = serializers.CharField()
    name = serializers.CharField()
    version = serializers.CharField(allow_null=True)
    missed_at = serializers.DateTimeField()


class ComponentSerializer(StrictSerializer):
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
    origin = serializers.CharField()
    serial = serializers.CharField(allow_null=True)
    health = serializers.CharField(allow_null=True)
    state = serializers.CharField(allow_null=True)
    reported = serializers.CharField(allow_null=True)
    updateable = serializers.BooleanField(allow_null=True)
    score = serializers.FloatField(allow_null=True)
    seen_since = serializers.DateTimeField(allow_null=True)


class PlannedWriteSerializer(StrictSerializer):
    slot = serializers.CharField()
    product = serializers.CharField()
    source = serializers.CharField()  # type: ignore[assignment]  # a field by that name, not the option
    to = serializers.CharField()


class RoundSerializer(StrictSerializer):
    writes = PlannedWriteSerializer(many=True)
    reset = serializers.CharField(allow_null=True)


class StrandedSerializer(StrictSerializer):
    slot = serializers.CharField()
    reason = serializers.CharField()


class ServerDetailSerializer(ServerSerializer):
    url = serializers.CharField()
    user = serializers.CharField()
    pin = serializers.CharField(allow_null=True)
    parts = ComponentSerializer(many=True)
    rounds = RoundSerializer(many=True)
    stranded = StrandedSerializer(many=True)
    proof = serializers.CharField()
    readings = serializers.IntegerField()
    uuid = serializers.CharField(allow_null=True)
    tag = serializers.CharField(allow_null=True)
    power = serializers.CharField(allow_null=True)
    health = serializers.CharField(allow_null=True)
    hindrances = HindranceSerializer(many=True)
    ways = ReachWaySerializer(many=True)
    probed_at = serializers.DateTimeField(allow_null=True)
    lost_parts = LostPartSerializer(many=True)
    reported_at = serializers.DateTimeField(allow_null=True)


class CredentialsSerializer(StrictSerializer):
    user = serializers.CharField(max_length=200)
    password = serializers.CharField(max_length=500, write_only=True, trim_whitespace=False)


class TrustSerializer(StrictSerializer):
    pin = serializers.RegexField(r"^[0-9a-f]{64}$")


class NewServerSerializer(CredentialsSerializer):
    name = serializers.RegexField(r"^[A-Za-z0-9][A-Za-z0-9._-]{0,99}$")
    url = serializers.RegexField(r"^https://[A-Za-z0-9.:\[\]-]+$", max_length=300)
    rack = serializers.CharField(max_length=20, required=False, default="", allow_blank=True)
    unit = serializers.IntegerField(min_value=0, max_value=100, required=False, default=0)


class ManyCredentialsSerializer(CredentialsSerializer):
    """For named servers, for a group, or for both."""

    servers = serializers.ListField(child=serializers.CharField(max_length=200), max_length=10000, default=list)
    group = serializers.CharField(max_length=200, required=False, allow_blank=True, default="")


class AcceptSerializer(TrustSerializer):
    server = serializers.CharField(max_length=200)


class ManyTrustSerializer(StrictSerializer):
    accept = AcceptSerializer(many=True)


class ServerChangeSerializer(StrictSerializer):
    """What is given is changed, the rest stays."""

    url = serializers.RegexField(r"^https://[A-Za-z0-9.:\[\]-]+$", max_length=300, required=False)
    room = serializers.CharField(max_length=100, required=False, allow_blank=True)
    rack = serializers.CharField(max_length=20, required=False, allow_blank=True)
    unit = serializers.IntegerField(min_value=0, max_value=100, required=False)
    height = serializers.IntegerField(min_value=1, max_value=20, required=False)
    role = serializers.CharField(max_length=200, required=False, allow_blank=True)
    group = serializers.CharField(max_length=200, required=False, allow_blank=True)
    tags = serializers.ListField(child=serializers.CharField(max_length=60), max_length=50, required=False)


class NamesSerializer(StrictSerializer):
    """Servers by name; none means all."""

    servers = serializers.ListField(child=serializers.CharField(max_length=200), required=False, max_length=10000)


class WhomSerializer(NamesSerializer):
    """Servers by name; none means all, or with ``failed`` those whose last reading failed."""

    failed = serializers.BooleanField(required=False, default=False)
