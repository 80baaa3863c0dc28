"""Shapes of the baseline's API."""

from __future__ import annotations

from rest_framework import serializers

from ordnung.server.api.catalogs import IssueSerializer
from ordnung.server.shapes import StrictSerializer

RULE_WHERE = ("kind", "product", "model", "server", "group")


class CoverageSerializer(StrictSerializer):
    """One model against one catalog; ``model`` is empty for a list for every model, ``maker`` without any catalog."""

    model = serializers.CharField(allow_blank=True)
    servers = serializers.IntegerField()
    maker = serializers.CharField(allow_blank=True)
    catalog = serializers.CharField(allow_blank=True)
    covered = serializers.ListField(child=serializers.CharField())
    followed = serializers.CharField(allow_null=True)
    chosen = serializers.BooleanField()
    dropped_after = serializers.CharField(allow_null=True)
    newest = serializers.CharField(allow_null=True)
    signed_by = serializers.CharField(allow_blank=True)


class SaidBySerializer(StrictSerializer):
    name = serializers.CharField()
    maker = serializers.CharField()
    signed_by = serializers.CharField(allow_blank=True)


class BaselineLineSerializer(StrictSerializer):
    product = serializers.CharField()
    name = serializers.CharField()
    kind = serializers.CharField()
    target = serializers.CharField(allow_null=True)
    held = serializers.BooleanField()
    issues = SaidBySerializer(many=True)
    rule = serializers.IntegerField(allow_null=True)
    why = serializers.CharField()
    fitted = serializers.IntegerField()
    servers = serializers.ListField(child=serializers.CharField())
    server_count = serializers.IntegerField()
    models = serializers.ListField(child=serializers.CharField())
    importance = serializers.CharField(allow_null=True)
    released = serializers.DateField(allow_null=True)
    newer = serializers.ListField(child=serializers.CharField())


class RuleSerializer(StrictSerializer):
    do = serializers.ChoiceField(choices=["hold", "pin", "wait", "take"])
    where = serializers.DictField(child=serializers.ListField(child=serializers.CharField()))
    version = serializers.CharField(allow_null=True)
    days = serializers.IntegerField(allow_null=True)
    unless_score = serializers.FloatField(allow_null=True)
    reason = serializers.CharField(allow_blank=True)
    author = serializers.CharField(allow_blank=True)
    until = serializers.DateField(allow_null=True)
    what = serializers.CharField()
    matches = serializers.IntegerField()
    decides = serializers.IntegerField()
    note = serializers.CharField(allow_blank=True)


class UnlistedSerializer(StrictSerializer):
    name = serializers.CharField()
    kind = serializers.CharField()
    software_id = serializers.CharField(allow_null=True)
    model = serializers.CharField()
    reason = serializers.CharField()
    components = serializers.IntegerField()
    servers = serializers.ListField(child=serializers.CharField())


class ConflictSerializer(StrictSerializer):
    product = serializers.CharField()
    name = serializers.CharField()
    version = serializers.CharField()
    older = serializers.CharField()
    newer = serializers.CharField()
    fields = serializers.ListField(child=serializers.CharField())  # type: ignore[assignment]  # a field by that name


class FollowSerializer(StrictSerializer):
    model = serializers.CharField(allow_blank=True, max_length=200)
    maker = serializers.CharField(max_length=200, allow_blank=True)
    catalog = serializers.CharField(max_length=200, allow_blank=True)
    issue = serializers.CharField(max_length=200, allow_blank=True)


class RevisionSerializer(StrictSerializer):
    number = serializers.IntegerField()
    note = serializers.CharField(allow_blank=True)
    basis = serializers.IntegerField(allow_null=True)
    made_at = serializers.DateTimeField()
    made_by = serializers.CharField()
    frozen = serializers.BooleanField()


class RevisionDetailSerializer(RevisionSerializer):
    rules = serializers.JSONField()
    follows = FollowSerializer(many=True)


class ProposalSerializer(StrictSerializer):
    """Rules as an ``ordnung.rules/1`` document, and what models follow."""

    rules = serializers.JSONField()
    follows = FollowSerializer(many=True)


class DraftSerializer(ProposalSerializer):
    basis = serializers.IntegerField()


class NewRevisionSerializer(DraftSerializer):
    note = serializers.CharField(max_length=2000, allow_blank=True)


class SumsSerializer(StrictSerializer):
    off = serializers.IntegerField()
    exposed = serializers.IntegerField()
    held = serializers.IntegerField()
    servers = serializers.IntegerField()
    outages = serializers.IntegerField()
    power_cycles = serializers.IntegerField()
    restarts = serializers.IntegerField()
    writes = serializers.IntegerField()
    bytes = serializers.IntegerField()
    stranded = serializers.IntegerField()
    fixes = serializers.ListField(child=serializers.CharField())


class TargetChangeSerializer(StrictSerializer):
    product = serializers.CharField()
    name = serializers.CharField()
    before = serializers.CharField(allow_null=True)
    after = serializers.CharField(allow_null=True)
    components = serializers.IntegerField()
    servers = serializers.IntegerField()


class EffectSerializer(StrictSerializer):
    before = SumsSerializer()
    after = SumsSerializer()
    fixes_gained = serializers.ListField(child=serializers.CharField())
    fixes_lost = serializers.ListField(child=serializers.CharField())
    changes = TargetChangeSerializer(many=True)


class DraftEffectSerializer(StrictSerializer):
    effect = EffectSerializer()
    rules = RuleSerializer(many=True)
    coverage = CoverageSerializer(many=True)
    lines = BaselineLineSerializer(many=True)


class ComparedSerializer(StrictSerializer):
    one = RevisionSerializer()
    other = RevisionSerializer()
    differences = serializers.ListField(child=serializers.CharField())
    effect = EffectSerializer()


class BaselineSerializer(StrictSerializer):
    revision = RevisionDetailSerializer()
    issues = IssueSerializer(many=True)
    coverage = CoverageSerializer(many=True)
    rules = RuleSerializer(many=True)
    lines = BaselineLineSerializer(many=True)
    unlisted = UnlistedSerializer(many=True)
    conflicts = ConflictSerializer(many=True)
    draft = DraftSerializer(allow_null=True)
    groups = serializers.ListField(child=serializers.CharField())


class FixSerializer(StrictSerializer):
    id = serializers.CharField()
    score = serializers.FloatField(allow_null=True)
    title = serializers.CharField(allow_blank=True)


class ListedInSerializer(StrictSerializer):
    name = serializers.CharField()
    signed_by = serializers.CharField(allow_blank=True)


class ReleaseSerializer(StrictSerializer):
    version = serializers.CharField()
    released = serializers.DateField(allow_null=True)
    importance = serializers.CharField(allow_null=True)
    notes = serializers.CharField(allow_blank=True)
    fixes = FixSerializer(many=True)
    size = serializers.IntegerField(allow_null=True)
    activation = serializers.CharField(allow_null=True)
    direct_from = serializers.CharField(allow_null=True)
    needs = serializers.ListField(child=serializers.CharField())
    floor_after = serializers.CharField(allow_null=True)
    alone = serializers.BooleanField()
    write_seconds = serializers.FloatField(allow_null=True)
    is_target = serializers.BooleanField()
    is_stop = serializers.BooleanField()
    is_beyond = serializers.BooleanField()
    issues = ListedInSerializer(many=True)
    conflict = serializers.CharField(allow_blank=True)
    servers = serializers.ListField(child=serializers.CharField())
    server_count = serializers.IntegerField()
    components = serializers.IntegerField()
    waiting = serializers.IntegerField()


class WaySerializer(StrictSerializer):
    """One leg of a route over this product: from, to, by which reset, and how many components take it."""

    source = serializers.CharField()  # type: ignore[assignment]  # a field by that name, not the option
    to = serializers.CharField()
    reset = serializers.CharField()
    components = serializers.IntegerField()


class ReleaseLineSerializer(StrictSerializer):
    product = serializers.CharField()
    name = serializers.CharField()
    kind = serializers.CharField()
    held = serializers.BooleanField()
    releases = ReleaseSerializer(many=True)
    ways = WaySerializer(many=True)
    elsewhere = serializers.ListField(child=serializers.CharField())
    floor = serializers.CharField(allow_null=True)
