"""A small run on record, for tests of what is said of it and of its file."""

from __future__ import annotations

import dataclasses
import datetime

from ordnung.core.run_record import (
    ApprovalRecord,
    ComponentRecord,
    Foretold,
    OutsideRecord,
    OverrideRecord,
    PersonRecord,
    RemedyRecord,
    ResetRecord,
    RoundRecord,
    RunRecord,
    ServerRecord,
    TapeRecord,
    WriteRecord,
)

NIGHT = datetime.datetime(2026, 11, 26, 22, 0, tzinfo=datetime.UTC)
MIN = datetime.timedelta(minutes=1)
WRITE = WriteRecord(
    slot="bios", source="3.0.5", to="3.2.0", sha256="ab" * 32, way="pull over HTTPS", identified_by="its descriptors",
    began=NIGHT, ended=NIGHT + 5 * MIN, result="written", detail="by its task",
)  # fmt: skip
RESET = ResetRecord(
    kind="server reboot",
    type="GracefulRestart",
    acted_by="the time of its last reset",
    began=NIGHT + 5 * MIN,
    back=NIGHT + 10 * MIN,
)
REMEDY = RemedyRecord(at=NIGHT, remedy="that update alone", why="it was refused", by="lead", result="helped")
SERVER = ServerRecord(
    server="surge-01", model="Reed 14", serial="CRV1", group="surges", room="Kelp", rack="K1", unit=4, wave="canary",
    ended="level", reason="every version confirmed by reading", planned_seconds=600.0, took_seconds=620.0,
    away_seconds=300.0, before=(ComponentRecord(slot="bios", name="BIOS", version="3.0.5"),),
    after=(ComponentRecord(slot="bios", name="BIOS", version="3.2.0"),),
    rounds=(RoundRecord(writes=(WRITE,), resets=(RESET,), confirmed=("bios 3.2.0",)),), remedies=(),
    outside=(OutsideRecord(at=NIGHT, ended=NIGHT + MIN, what="move its work off", of="work desk", by="desk", note=""),),
    differences=(), announced=("setting A",), overrides=(OverrideRecord(check="feed", reason="measured (lead)"),),
    tape=(TapeRecord(seq=1, at=NIGHT, text="its turn"),),
)  # fmt: skip


def a_server(name: str, ended: str = "level", **values) -> ServerRecord:
    return dataclasses.replace(SERVER, server=name, ended=ended, **values)


def a_record(*servers: ServerRecord, **values) -> RunRecord:
    known = {
        "number": 4, "name": "Thursday", "drafted_by": "technician", "drafted_at": NIGHT, "started_by": "lead",
        "started_at": NIGHT, "ended_at": NIGHT + 50 * MIN, "baseline": 2, "payloads": "K1, edition 1",
        "sheet_sha256": "cd" * 32, "takes_back": None, "planned_seconds": 3000.0, "planned_resets": 1,
        "foretold": Foretold(p50=2900.0, p90=3300.0, p99=3600.0),
        "approvals": (ApprovalRecord(by="approver", at=NIGHT, sha256="cd" * 32),),
        "people": (PersonRecord(at=NIGHT, who="lead", what="start a run", servers=("surge-01",), detail=""),),
    }  # fmt: skip
    return RunRecord(**{**known, **values, "servers": servers or (SERVER,)})
