"""A run sheet as a file, ``ordnung.sheet/1``: what it says, its sum, who approved it, and whether that holds.

The sum is SHA-256 over the canonical JSON (RFC 8785) of the member ``sheet``; an approval signs it with the key of
the site (``docs/formats/sheet.md``, ``night.md`` P4).
"""

from __future__ import annotations

import dataclasses
import datetime
import hashlib
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import orjson
import rfc8785
from cryptography.exceptions import InvalidSignature
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PublicKey

from ordnung.core.night.limits import GroupLimit, NightLimits
from ordnung.core.route import Write
from ordnung.core.run_sheet import HandsOn, RunSheet, SheetServer, SheetWave, only_leaves_out
from ordnung.core.sheet import DiscPart, NamedPayload, PlannedRound, PlannedWrite
from ordnung.formats.documents import parse_document, read_instant

FORMAT = "ordnung.sheet/1"
Body = dict[str, Any]


@dataclass(frozen=True, slots=True, kw_only=True)
class Approval:
    """Who approved which sheet when. ``sheet`` is what was approved, where servers were left out of it since."""

    by: str
    at: datetime.datetime
    sha256: str
    key: str
    signature: str
    sheet: RunSheet | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class SheetFile:
    """A sheet as it was given out."""

    site: str
    number: int
    name: str
    drafted_by: str
    sheet: RunSheet
    sha256: str
    approvals: tuple[Approval, ...] = ()


def sheet_sum(sheet: RunSheet) -> str:
    """SHA-256 of a sheet in hex: the same for the same sheet, wherever it is worked out."""
    return hashlib.sha256(rfc8785.dumps(sheet_body(sheet))).hexdigest()


def approval_bytes(sha256: str, by: str, at: datetime.datetime) -> bytes:
    """What is signed of an approval: canonical JSON (RFC 8785)."""
    return rfc8785.dumps({"format": "ordnung.approval/1", "sha256": sha256, "by": by, "at": _spell(at)})


def check_sheet(file: SheetFile, key: str | None = None) -> tuple[str, ...]:
    """Everything that speaks against a sheet being approved as it is, in sentences; empty when it is.

    Args:
        key: the site's public key in hex, from where it was given out; None: the file's own is believed.
    """
    faults = []
    if sheet_sum(file.sheet) != file.sha256:
        faults.append("The sheet was changed after it was given out: its sum is another.")
    if not file.approvals:
        faults.append("Nobody has approved it.")
    for approval in file.approvals:
        fault = _approval_fault(file, approval, key)
        if fault is not None:
            faults.append(f"The approval of {approval.by}: {fault}")
    return tuple(faults)


def _approval_fault(file: SheetFile, approval: Approval, key: str | None) -> str | None:
    if key is not None and approval.key != key:
        return "signed by another key than the site's."
    if not _is_signed(approval):
        return "its signature does not hold."
    if approval.by == file.drafted_by:
        return "who drafted a sheet can't approve it."
    approved = approval.sheet if approval.sheet is not None else file.sheet
    if sheet_sum(approved) != approval.sha256:
        return "given for another sheet."
    if approval.sheet is not None and not only_leaves_out(approval.sheet, file.sheet):
        return "given for another sheet: more was changed since than that servers were left out."
    return None


def _is_signed(approval: Approval) -> bool:
    signed = approval_bytes(approval.sha256, approval.by, approval.at)
    try:
        Ed25519PublicKey.from_public_bytes(bytes.fromhex(approval.key)).verify(
            bytes.fromhex(approval.signature), signed
        )
    except (InvalidSignature, ValueError):
        return False
    return True


def sheet_body(sheet: RunSheet) -> Body:
    """A sheet as JSON: servers and groups by name, so that the order in which they came about tells nothing."""
    return {
        "baseline": sheet.baseline,
        "servers": [_server_body(s) for s in sorted(sheet.servers, key=lambda s: s.server)],
        "waves": [_wave_body(w) for w in sheet.waves],
        "windows": None if sheet.windows is None else [_span_body(s) for s in sheet.windows],
        "limits": _limits_body(sheet.limits),
        **({"disc": sheet.disc} if sheet.disc else {}),
    }


def _wave_body(wave: SheetWave) -> Body:
    """A wish stands there only if there is one: sheets approved before there were any keep their sum."""
    body: Body = {"name": wave.name, "wait_seconds": wave.wait_seconds, "gate": wave.gate}
    return body if wave.not_before is None else {**body, "not_before": _spell(wave.not_before)}


def _span_body(span: tuple[datetime.datetime, datetime.datetime]) -> Body:
    return {"start": _spell(span[0]), "end": _spell(span[1])}


def _limits_body(limits: NightLimits) -> Body:
    return {
        "at_once": limits.at_once,
        "transfers": limits.transfers,
        "bytes_per_second": limits.bytes_per_second,
        "groups": [dataclasses.asdict(g) for g in sorted(limits.groups, key=lambda g: g.name)],
        "racks": dict(limits.racks),
        "rooms": dict(limits.rooms),
        "ahead": limits.ahead,
        "certainty": limits.certainty,
    }


def _server_body(server: SheetServer) -> Body:
    return {
        "server": server.server,
        "group": server.group,
        "rack": server.rack,
        "room": server.room,
        "wave": server.wave,
        "rounds": [_round_body(step) for step in server.rounds],
        "back": None if server.back is None else dict(server.back),
        "not_before": None if server.not_before is None else _spell(server.not_before),
        "pinned": server.pinned,
        "hold": server.hold,
        "overrides": dict(server.overrides),
        "left_out": dict(server.left_out),
        "hands": [dataclasses.asdict(step) for step in server.hands],
    }


def _round_body(step: PlannedRound) -> Body:
    return {
        "writes": [_write_body(planned) for planned in step.writes],
        "reset": step.reset,
        "reset_seconds": step.reset_seconds,
        "activates": [{"slot": slot, "to": version} for slot, version in step.activates],
    }


def _write_body(planned: PlannedWrite) -> Body:
    write, payload = planned.write, planned.payload
    return {
        "slot": write.slot,
        "product": write.product,
        "from": write.source,
        "to": write.to,
        "seconds": write.seconds,
        "payload": None if payload is None else dataclasses.asdict(payload),
        **({"announces": list(planned.announces)} if planned.announces else {}),
        **({"bank": True} if planned.bank else {}),
        **({"sets_up": True} if planned.sets_up else {}),
        **({"disc": str(planned.disc)} if planned.disc is not None else {}),
    }


def write_sheet(file: SheetFile, more: Mapping[str, Any] | None = None) -> bytes:
    """A sheet as a file.

    Args:
        more: what is told besides and not approved: timetable, left over, forecast.
    """
    body = {
        "format": FORMAT,
        "site": file.site,
        "number": file.number,
        "name": file.name,
        "drafted_by": file.drafted_by,
        "sheet": sheet_body(file.sheet),
        "sha256": file.sha256,
        "approvals": [approval_body(a) for a in file.approvals],
        **(more or {}),
    }
    return orjson.dumps(body, option=orjson.OPT_INDENT_2) + b"\n"


def approval_body(approval: Approval) -> Body:
    """An approval as JSON."""
    body = {
        "by": approval.by,
        "at": _spell(approval.at),
        "sha256": approval.sha256,
        "key": approval.key,
        "signature": approval.signature,
    }
    return body if approval.sheet is None else {**body, "sheet": sheet_body(approval.sheet)}


def parse_sheet(raw: bytes, source: str = "sheet") -> SheetFile:
    """A sheet from its file. Raises FormatError: not by the schema, or a time that is none."""
    document = parse_document(raw, "sheet", source)
    return SheetFile(
        site=document["site"],
        number=document["number"],
        name=document["name"],
        drafted_by=document["drafted_by"],
        sheet=read_sheet(document["sheet"], source),
        sha256=document["sha256"],
        approvals=tuple(_read_approval(a, source, f"approvals.{n}") for n, a in enumerate(document["approvals"])),
    )


def read_sheet(body: Mapping[str, Any], source: str = "sheet") -> RunSheet:
    """A sheet from its JSON, which is by the schema. Raises FormatError for a time that is none."""
    windows = body["windows"]
    return RunSheet(
        baseline=body["baseline"],
        servers=tuple(_read_server(s, source, f"sheet.servers.{n}") for n, s in enumerate(body["servers"])),
        waves=tuple(_read_wave(w, source, f"sheet.waves.{n}") for n, w in enumerate(body["waves"])),
        windows=None if windows is None else tuple(_read_span(w, source, "sheet.windows") for w in windows),
        limits=_read_limits(body["limits"]),
        disc=body.get("disc", ""),
    )


def _read_wave(body: Mapping[str, Any], source: str, place: str) -> SheetWave:
    told = body.get("not_before")
    not_before = None if told is None else read_instant(told, source, f"{place}.not_before")
    return SheetWave(**{**body, "not_before": not_before})


def _read_limits(body: Mapping[str, Any]) -> NightLimits:
    return NightLimits(**{**body, "groups": tuple(GroupLimit(**g) for g in body["groups"])})


def _read_server(body: Mapping[str, Any], source: str, place: str) -> SheetServer:
    not_before = body["not_before"]
    told = {
        "rounds": tuple(_read_round(r) for r in body["rounds"]),
        "hands": tuple(HandsOn(**step) for step in body["hands"]),
        "not_before": None if not_before is None else read_instant(not_before, source, f"{place}.not_before"),
    }
    return SheetServer(**{**body, **told})


def _read_round(body: Mapping[str, Any]) -> PlannedRound:
    return PlannedRound(
        writes=tuple(_read_write(w) for w in body["writes"]),
        reset=body["reset"],
        reset_seconds=body["reset_seconds"],
        activates=tuple((pair["slot"], pair["to"]) for pair in body["activates"]),
    )


def _read_write(body: Mapping[str, Any]) -> PlannedWrite:
    write = Write(
        slot=body["slot"], product=body["product"], source=body["from"], to=body["to"], seconds=body["seconds"]
    )
    payload = body["payload"]
    return PlannedWrite(
        write=write,
        payload=None if payload is None else NamedPayload(**payload),
        announces=tuple(body.get("announces", ())),
        bank=body.get("bank", False),
        sets_up=body.get("sets_up", False),
        disc=DiscPart(body["disc"]) if "disc" in body else None,
    )


def _read_approval(body: Mapping[str, Any], source: str, place: str) -> Approval:
    sheet = body.get("sheet")
    told = {
        "at": read_instant(body["at"], source, f"{place}.at"),
        "sheet": None if sheet is None else read_sheet(sheet, source),
    }
    return Approval(**{**body, **told})


def _read_span(body: Mapping[str, str], source: str, place: str) -> tuple[datetime.datetime, datetime.datetime]:
    return read_instant(body["start"], source, place), read_instant(body["end"], source, place)


def _spell(moment: datetime.datetime) -> str:
    return moment.astimezone(datetime.UTC).isoformat(timespec="seconds").replace("+00:00", "Z")
