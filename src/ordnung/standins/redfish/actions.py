"""What POST does on a stand-in: updates, resets, media, accounts, events, certificates."""

from __future__ import annotations

import json

from ordnung.standins import partitions as set_up
from ordnung.standins import resets, virtual_host
from ordnung.standins.hardware import Hardware
from ordnung.standins.parts import Part, Task
from ordnung.standins.redfish import jobs, managers, partitions, updates
from ordnung.standins.redfish.changes import add_account, add_subscription
from ordnung.standins.redfish.enclosure import TOGETHER, is_enclosed
from ordnung.standins.redfish.member_ids import find_member, member_path
from ordnung.standins.redfish.quirks import apply_quirks
from ordnung.standins.redfish.registries import message
from ordnung.standins.redfish.seen import find_part
from ordnung.standins.redfish.tree import SCHEMAS, V1, Resource, find_resource, link
from ordnung.standins.redfish.wire import (
    HEADERS,
    Handler,
    Reply,
    Request,
    as_reply,
    error,
    load,
    put_off,
    refuse,
    spell,
)  # fmt: skip

ACCOUNTS, SUBSCRIPTIONS = f"{V1}/AccountService/Accounts", f"{V1}/EventService/Subscriptions"


# Updates


def _open(device: Hardware, request: Request, body: Resource) -> Task | Reply:
    targets = body.get("Targets") or []
    named = [_part_at(device, str(target)) for target in targets] if isinstance(targets, list) else []
    slots = [part.slot for part in named if part is not None]
    is_aimed = not updates.UNAIMED & device.quirks
    if "Targets" in body and not is_aimed:
        return _unknown(request, "Targets")
    if "targets elsewhere" in device.quirks:
        found = [part.slot for part in device.parts if updates.related(device, part) in targets]
        is_aimed, slots = len(found) < 2, found if len(found) == 1 else []  # by the image which of them
    if is_aimed and (not slots or len(slots) < len(named)):
        return error(400, "ActionParameterValueNotInList", str(targets)[:100], "Targets", "update")
    if (refused := _refuse_time(device, body)) is not None:
        return refused
    if (busy := _busy(device)) is not None:
        return busy
    if device.has_fault("job pending"):
        return error(409, "ResourceInUse")
    shown = {"HttpOperation": "POST", "TargetUri": request.path, "JsonBody": json.dumps(body)}
    return device.open_task(slots, shown)


def _unknown(request: Request, name: str) -> Reply:
    """The refusal of what is not known: an action's parameter, or a property of what is pushed."""
    if request.parts is not None:
        return error(400, "PropertyUnknown", name)
    return error(400, "ActionParameterUnknown", "update", name)


def _refuse_time(device: Hardware, body: Resource) -> Reply | None:
    name = "@Redfish.OperationApplyTime"
    asked, times = body.get(name), updates.apply_times(device)
    if asked is None or (times is not None and asked in times):
        return None
    if times is None:
        return error(400, "ActionParameterUnknown", "update", name)
    return error(400, "ActionParameterValueNotInList", str(asked)[:100], name, "update")


def _part_at(device: Hardware, target: str) -> Part | None:
    name = target.rsplit("/", 1)[-1]
    found = find_member(device, device.parts, name)
    return found[0] if found is not None else device.part(name)


def _busy(device: Hardware) -> Reply | None:
    """What is answered while something is written; None when nothing is."""
    systems = [system for system in (device, device.beside) if system is not None]
    is_full = "one at a time" in device.quirks and any(task.phase == "kept" for s in systems for task in s.tasks)
    return put_off(30) if is_full or any(system.running_task() for system in systems) else None


def _accepted(device: Hardware, task: Task, pull: tuple[Task, str] | None = None) -> Reply:
    path = f"{V1}/TaskService/Tasks/{task.id}"
    head = {"@odata.id": path, "@odata.type": f"#Task.{SCHEMAS['Task']}.Task", "Id": task.id}
    body = {**head, **jobs.as_task(device, task)}
    reply = as_reply(body, 202, {"Location": f"{V1}/TaskMonitors/{task.id}"})
    reply.pull = pull
    return reply


def _taken_on(device: Hardware, task: Task, pull: tuple[Task, str] | None = None) -> Reply:
    """The answer to an update request, as this controller gives it."""
    reply = _accepted(device, task, pull)
    if jobs.INSTEAD in device.quirks and jobs.has_jobs(device):
        reply.body, reply.headers["Location"] = b"", jobs.job_path(task)
        return reply
    if {"empty 202", "bare 202"} & device.quirks:
        reply.body = b""
    if "bare 202" in device.quirks:
        del reply.headers["Location"]
    elif "no task list" in device.quirks:
        reply.body = b""
    elif "no task state" in device.quirks:
        reply.body = spell(apply_quirks(device, json.loads(reply.body))) if reply.body else b""
    return reply


def pull(device: Hardware, request: Request, body: Resource) -> Reply:
    """Fetch an image and write it (SimpleUpdate)."""
    allowed = updates.pull_protocols(device)
    if not allowed:
        return error(404, "ResourceMissingAtURI", request.path)
    if "ImageURI" not in body:
        return error(400, "ActionParameterMissing", "SimpleUpdate", "ImageURI")
    uri = str(body["ImageURI"])
    if uri.partition(":")[0].upper() not in allowed:
        return error(400, "ActionParameterValueNotInList", uri, "ImageURI", f"SimpleUpdate over {', '.join(allowed)}")
    task = _open(device, request, body)
    return task if isinstance(task, Reply) else _taken_on(device, task, (task, uri))


def push(device: Hardware, request: Request, body: Resource) -> Reply:
    """Take an image by multipart."""
    if updates.PUSH_URI not in updates.push_uris(device):
        return error(403, "NotApplicableToTarget")
    if request.parts is None:
        return error(415, "UnrecognizedRequestBody")
    raw, image = request.parts.get("UpdateParameters"), request.parts.get("UpdateFile")
    if raw is None or image is None:
        return error(400, "ActionParameterMissing", "push", "UpdateParameters" if raw is None else "UpdateFile")
    parameters = load(raw)
    if parameters is None:
        return error(400, "MalformedJSON")
    task = _open(device, request, parameters)
    if isinstance(task, Reply):
        return task
    device.receive_image(task, image)
    return _taken_on(device, task)


def push_raw(device: Hardware, request: Request, body: Resource) -> Reply:
    """The old way: the image alone; the service decides what it is for."""
    if updates.RAW_PUSH_URI not in updates.push_uris(device):
        return error(404, "ResourceMissingAtURI", request.path)
    own = next(part for part in device.parts if part.kind == "controller")
    task = _open(device, request, {} if updates.UNAIMED & device.quirks else {"Targets": [member_path(device, own)]})
    if isinstance(task, Reply):
        return task
    device.receive_image(task, request.body)
    return _taken_on(device, task)


def show_monitor(device: Hardware, number: str) -> Reply:
    """What a task monitor answers (DSP0266): 202 while running, then what the operation would have."""
    device.advance()
    task = next((task for task in updates.tasks_of(device) if task.id == number), None)
    if task is None:
        return error(404, "ResourceMissingAtURI", f"{V1}/TaskMonitors/{number}")
    reply = _accepted(device, task)
    if {"no task state", "no task list", "empty 202"} & device.quirks:
        reply.body = b""
    if task.state in updates.ENDED:
        reply.status = 200 if task.state == "Completed" else 400
        del reply.headers["Location"]
        if task.state != "Completed" and not reply.body:
            name, args = task.messages[-1]
            return error(400, "GeneralError") if not args else _failed(name, args)
    return reply


def _failed(name: str, args: list[str]) -> Reply:
    message = {"MessageId": name, "Message": f"{name.rsplit('.', 1)[1]}: {', '.join(args)}", "MessageArgs": args}
    return as_reply({"error": {"code": name, "message": message["Message"], "@Message.ExtendedInfo": [message]}}, 400)


def initialize(device: Hardware, request: Request, body: Resource) -> Reply:
    """Set up a service partition anew (Volume.Initialize)."""
    slot = request.path.rstrip("/").rsplit("/", 3)[-3]
    part = find_part(device, slot, "store")
    if part is None or not partitions.has_volumes(device):
        return error(404, "ResourceMissingAtURI", request.path)
    kind = body.get("InitializeType", partitions.KINDS[0])
    if kind not in partitions.KINDS:
        return error(400, "ActionParameterValueNotInList", str(kind)[:100], "InitializeType", "Volume.Initialize")
    busy = _busy(device)
    return busy if busy is not None else _taken_on(device, set_up.begin(device, part, request.path))


# Resets, media, accounts, events


def make_reset(allowed: tuple[str, ...], act: str) -> Handler:
    """A reset action that takes these types; ``act`` is one of ``resets.RESETS``."""

    def handle(device: Hardware, request: Request, body: Resource) -> Reply:
        if body.get("ResetType") not in allowed:
            return error(400, "ActionParameterValueNotInList", str(body.get("ResetType")), "ResetType", "Reset")
        resets.ask(device, act)
        return Reply(status=204, headers=dict(HEADERS), restarts=device.is_away)

    return handle


_RESTARTS = make_reset(("GracefulRestart", "ForceRestart"), "reboot")
_CYCLES = make_reset(("PowerCycle",), "cycle the power")


def reset_system(device: Hardware, request: Request, body: Resource) -> Reply:
    """ComputerSystem.Reset."""
    kind = body.get("ResetType")
    if kind == "PushPowerButton":  # whether that boots or kills it depends on its system: nobody should
        device.note("button pushed")
        return Reply(status=204, headers=dict(HEADERS))
    if kind == "PowerCycle" and "power cycle on system" in device.quirks:
        return _CYCLES(device, request, body)
    if kind == "GracefulRestart" and "graceful ignored" in device.quirks:
        device.note("graceful restart ignored")
        return Reply(status=204, headers=dict(HEADERS))
    return _RESTARTS(device, request, body)


def reset_chassis(device: Hardware, request: Request, body: Resource) -> Reply:
    """Chassis.Reset."""
    if {"power cycle on system", TOGETHER} & device.quirks:
        return error(404, "ResourceMissingAtURI", request.path)
    return _CYCLES(device, request, body)


def reset_enclosure(device: Hardware, request: Request, body: Resource) -> Reply:
    """Chassis.Reset of the enclosure around the server: this one goes dark, and its neighbours with it."""
    if not is_enclosed(device):
        return error(404, "ResourceMissingAtURI", request.path)
    device.note("enclosure cycled")
    return _CYCLES(device, request, body)


def reset_enclosure_manager(device: Hardware, request: Request, body: Resource) -> Reply:
    """Manager.Reset of that enclosure's own manager."""
    if not is_enclosed(device):
        return error(404, "ResourceMissingAtURI", request.path)
    device.note("enclosure manager restarted")
    return Reply(status=204, headers=dict(HEADERS))


def replace_certificate(device: Hardware, request: Request, body: Resource) -> Reply:
    """CertificateService.ReplaceCertificate: key and certificate as PEM, for the HTTPS certificate only."""
    if device.generation != "newest":
        return error(404, "ResourceMissingAtURI", request.path)
    for name in ("CertificateString", "CertificateType", "CertificateUri"):
        if name not in body:
            return error(400, "ActionParameterMissing", "ReplaceCertificate", name)
    if body["CertificateType"] != "PEM":
        value = str(body["CertificateType"])[:40]
        return error(400, "ActionParameterValueNotInList", value, "CertificateType", "ReplaceCertificate")
    where = body["CertificateUri"].get("@odata.id") if isinstance(body["CertificateUri"], dict) else None
    if where != managers.HTTPS_CERTIFICATE:
        return error(400, "ActionParameterValueNotInList", str(where)[:200], "CertificateUri", "ReplaceCertificate")
    text = body["CertificateString"]
    if not isinstance(text, str) or "BEGIN CERTIFICATE" not in text or "PRIVATE KEY" not in text:
        return error(400, "ActionParameterValueNotInList", "this text", "CertificateString", "ReplaceCertificate")
    device.note("certificate replaced")
    reply = Reply(status=204, headers={**HEADERS, "Location": managers.HTTPS_CERTIFICATE})
    reply.renews = text
    return reply


def insert_media(device: Hardware, request: Request, body: Resource) -> Reply:
    """VirtualMedia.InsertMedia."""
    image = body.get("Image")
    if not isinstance(image, str):
        return error(400, "ActionParameterMissing", "InsertMedia", "Image")
    if "media plain" in device.quirks and len(body) > 1:
        return error(400, "ActionParameterUnknown", "InsertMedia", next(name for name in body if name != "Image"))
    if device.media:
        return error(409, "ResourceInUse")
    virtual_host.takes_disc(device, image)
    return Reply(status=204, headers=dict(HEADERS))


def eject_media(device: Hardware, request: Request, body: Resource) -> Reply:
    """VirtualMedia.EjectMedia."""
    virtual_host.gives_disc(device)
    return Reply(status=204, headers=dict(HEADERS))


def make_account(device: Hardware, request: Request, body: Resource) -> Reply:
    """A new account."""
    return _made(device, ACCOUNTS, add_account(device, body))


def subscribe(device: Hardware, request: Request, body: Resource) -> Reply:
    """A new event subscription."""
    return _made(device, SUBSCRIPTIONS, add_subscription(device, body))


def _made(device: Hardware, parent: str, made: str | list[Resource]) -> Reply:
    if not isinstance(made, str):
        return refuse(400, made)
    path = f"{parent}/{made}"
    return as_reply(find_resource(device, path) or {}, 201, {"Location": path})


def send_test_event(device: Hardware, request: Request, body: Resource) -> Reply:
    """EventService.SubmitTestEvent."""
    reply = Reply(status=204, headers=dict(HEADERS))
    event = make_event(device, message("TestMessage", registry="ResourceEvent"))
    device.events.append(event)
    reply.send = [
        (str(s["Destination"]), {**event, "Context": s["Context"]})
        for s in device.subscriptions.values()
        if s["SubscriptionType"] == "RedfishEvent"
    ]
    return reply


def make_event(device: Hardware, event: Resource) -> Resource:
    """An event as a subscriber or a stream gets it."""
    number = str(len(device.events) + 1)
    record = {"MemberId": "0", "EventId": number, "EventType": "Other", **event, "OriginOfCondition": link(V1)}
    del record["@odata.type"], record["Resolution"]
    return {"@odata.type": "#Event.v1_7_0.Event", "Id": number, "Name": "Event", "Events": [record]}
