"""Bring a catalog issue in: read and checked whole before anything is stored."""

from __future__ import annotations

from django.db import transaction

from ordnung.core.catalog import Issue
from ordnung.formats.catalog import parse_catalog
from ordnung.server.catalogs.models import CatalogIssue
from ordnung.server.clock import now
from ordnung.server.problems import Problem
from ordnung.server.work.events import tell


def bring_in(raw: bytes, source: str) -> tuple[Issue, bool]:
    """Store one issue; returns it and whether it is new.

    Raises:
        FormatError: it is not a whole, valid catalog; nothing stored changes.
        Problem: the same issue is here with other contents.
    """
    issue = parse_catalog(raw, source)
    with transaction.atomic():
        known = CatalogIssue.objects.filter(maker=issue.maker, catalog=issue.catalog, issue=issue.issue).first()
        if known is not None:
            if bytes(known.raw) != raw:
                told = f"{issue.catalog} {issue.issue} is here already with other contents; what is here stays."
                raise Problem("issue-differs", f"{source}: {told}", status=409)
            return issue, False
        CatalogIssue.objects.create(
            maker=issue.maker,
            catalog=issue.catalog,
            issue=issue.issue,
            issued=issue.issued,
            raw=raw,
            brought_in=now(),
            source=source[:500],
        )
        tell("catalogs")
    return issue, True
