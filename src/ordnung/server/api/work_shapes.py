"""What the API says of work under way."""

from __future__ import annotations

from rest_framework import serializers

from ordnung.server.api.fleet_shapes import FailureSerializer
from ordnung.server.shapes import StrictSerializer
from ordnung.server.work.models import KINDS


class WorkSerializer(StrictSerializer):
    id = serializers.IntegerField()
    kind = serializers.ChoiceField(choices=list(KINDS))
    title = serializers.CharField()
    state = serializers.ChoiceField(choices=["asked", "running", "done", "failed"])
    total = serializers.IntegerField()
    done = serializers.IntegerField()
    unit = serializers.CharField()
    note = serializers.CharField()
    subject = serializers.JSONField()
    failures = FailureSerializer(many=True)
    asked_at = serializers.DateTimeField()
    started_at = serializers.DateTimeField(allow_null=True)
    ended_at = serializers.DateTimeField(allow_null=True)
    seen = serializers.BooleanField()
