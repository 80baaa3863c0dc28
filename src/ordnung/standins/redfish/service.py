"""One request in, one reply out: the whole Redfish service of a stand-in without a socket.

The HTTPS face and the in-process face both call ``Service.answer``, so that they can't differ.
What takes a network (a pull, delivering an event) is handed back on the reply for the face to do.
"""

from __future__ import annotations

import base64
import binascii
import hashlib
import json
import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field

from ordnung.standins.hardware import Hardware
from ordnung.standins.parts import PRIVILEGES, Task
from ordnung.standins.redfish import chassis, managers, systems, updates
from ordnung.standins.redfish.accounts import SSE, TEST_EVENT
from ordnung.standins.redfish.changes import add_account, add_subscription, change, sort_changes, writable
from ordnung.standins.redfish.query import QueryError, apply_query, is_open
from ordnung.standins.redfish.quirks import ELSEWHERE, apply_quirks
from ordnung.standins.redfish.registries import message
from ordnung.standins.redfish.tree import SCHEMAS, V1, Resource, find_resource, link

HEADERS = {"OData-Version": "4.0", "Cache-Control": "no-cache"}
_METHODS = frozenset({"GET", "HEAD", "POST", "PATCH", "PUT", "DELETE", "OPTIONS"})
"""What HTTP methods this service knows at all; any other is 501 (RFC 9110, 15.6.2)."""
_VOLATILE = frozenset({"DateTime", "PercentComplete", "Messages"})
_SESSIONS, _ACCOUNTS = f"{V1}/SessionService/Sessions", f"{V1}/AccountService/Accounts"
_SUBSCRIPTIONS, _MEDIA = f"{V1}/EventService/Subscriptions", f"{V1}/Systems/1/VirtualMedia/CD1/Actions"


@dataclass(frozen=True, slots=True, kw_only=True)
class Request:
    """An HTTP request; header names are lower case. ``parts`` holds a multipart body by part name."""

    method: str
    path: str
    query: Mapping[str, str] = field(default_factory=dict)
    headers: Mapping[str, str] = field(default_factory=dict)
    body: bytes = b""
    parts: Mapping[str, bytes] | None = None


@dataclass(slots=True, kw_only=True)
class Reply:
    """An HTTP answer, and what the face has to do besides."""

    status: int
    headers: dict[str, str] = field(default_factory=dict)
    body: bytes = b""
    pull: tuple[Task, str] | None = None
    send: list[tuple[str, Resource]] = field(default_factory=list)
    """(destination, event) to be delivered."""
    stream: bool = False
    lost: bool = False
    """Acted upon, but the answer never arrives."""
    restarts: bool = False
    renews: str | None = None
    """Key and certificate (PEM) that the controller shows from now on."""


Handler = Callable[[Hardware, Request, Resource], Reply]


class Service:
    """Answers for any device. Holds no state of its own: everything is in the hardware."""

    def __init__(self) -> None:
        self.posts: dict[str, tuple[str, Handler]] = {
            updates.UPDATE_ACTION: ("ConfigureComponents", _pull),
            updates.PUSH_URI: ("ConfigureComponents", _push),
            updates.RAW_PUSH_URI: ("ConfigureComponents", _push_raw),
            systems.SYSTEM_RESET: ("ConfigureComponents", _reset_system),
            chassis.CHASSIS_RESET: ("ConfigureComponents", _reset_chassis),
            managers.REPLACE_CERTIFICATE: ("ConfigureManager", _replace_certificate),
            managers.MANAGER_RESET: (
                "ConfigureManager",
                _reset(("GracefulRestart", "ForceRestart"), Hardware.restart_controller),
            ),
            TEST_EVENT: ("ConfigureManager", _test_event),
            f"{_MEDIA}/VirtualMedia.InsertMedia": ("ConfigureManager", _insert),
            f"{_MEDIA}/VirtualMedia.EjectMedia": ("ConfigureManager", _eject),
            _ACCOUNTS: ("ConfigureUsers", _new_account),
            f"{_ACCOUNTS}/Members": ("ConfigureUsers", _new_account),
            _SUBSCRIPTIONS: ("ConfigureManager", _subscribe),
            f"{_SUBSCRIPTIONS}/Members": ("ConfigureManager", _subscribe),
        }

    def answer(self, device: Hardware, request: Request) -> Reply:
        """The reply to a request; the device is acted upon as asked."""
        path = request.path.rstrip("/") or "/"
        if request.headers.get("odata-version", "4.0") != "4.0":
            return error(412, "PreconditionFailed")
        if device.take_fault("session expired"):
            device.sessions.clear()
        if request.method not in _METHODS:
            return error(501, "ActionNotSupported", request.method)
        if "basic only" in device.quirks and path.startswith(f"{V1}/SessionService"):
            return error(404, "ResourceMissingAtURI", path)
        if "no task list" in device.quirks and path.startswith(f"{V1}/TaskService"):
            return error(404, "ResourceMissingAtURI", path)
        if request.method == "POST" and path in _sessions_of(device):
            return _sign_in(device, request)
        who = _who(device, request)
        if who is None and not (is_open(path) and request.method in ("GET", "HEAD")):
            reply = error(401, "NoValidSession")
            reply.headers["WWW-Authenticate"] = f'Basic realm="{device.serial}"'
            return reply
        busy = device.take_fault("busy")
        if busy:
            reply = error(503, "ServiceTemporarilyUnavailable", f"{busy.seconds:g}")
            reply.headers["Retry-After"] = f"{int(busy.seconds)}"
            return reply
        if request.method in ("GET", "HEAD"):
            reply = self._get(device, request, path)
            return Reply(status=reply.status, headers=reply.headers) if request.method == "HEAD" else reply
        return self._act(device, request, path, who or "")

    # Reading

    def _get(self, device: Hardware, request: Request, path: str) -> Reply:
        if path == "/redfish":
            return _json({"v1": f"{V1}/"}, headers={"Allow": "GET, HEAD"})
        if path == f"{V1}/odata":
            return _json(_odata(device), headers={"Allow": "GET, HEAD"})
        if path == f"{V1}/$metadata":
            headers = {**HEADERS, "Content-Type": "application/xml;charset=utf-8", "Allow": "GET, HEAD"}
            return Reply(status=200, headers=headers, body=metadata())
        if path == SSE:
            return Reply(status=200, headers={**HEADERS, "Content-Type": "text/event-stream"}, stream=True)
        if path.startswith(f"{V1}/TaskMonitors/"):
            return _monitor(device, path.rsplit("/", 1)[-1])
        found = find_resource(device, path)
        if found is None:
            return error(404, "ResourceMissingAtURI", path)
        try:
            shown = apply_query(device, found, request.query)
        except QueryError as refused:
            return error(refused.status, refused.key, *refused.arguments)
        return self._show(request, found, shown, path)

    def _show(self, request: Request, found: Resource, shown: Resource, path: str) -> Reply:
        tag = etag(found)
        if writable(path) is not None:
            shown = {"@odata.id": shown["@odata.id"], "@odata.etag": tag, **shown}
        headers = {
            "ETag": tag,
            "Allow": ", ".join(self.allowed(path)),
            "Link": f"<{_schema_of(found['@odata.type'])}>; rel=describedby",
        }
        if request.headers.get("if-none-match") in (tag, "*"):
            return Reply(status=304, headers={**HEADERS, **headers})
        return _json(shown, headers=headers)

    def allowed(self, path: str) -> list[str]:
        """The methods a resource takes."""
        if path in self.posts and path not in (_ACCOUNTS, _SUBSCRIPTIONS):
            return ["POST"]
        methods = ["GET", "HEAD"]
        if path in (_SESSIONS, _ACCOUNTS, _SUBSCRIPTIONS):
            methods.append("POST")
        if writable(path) is not None:
            methods.append("PATCH")
        if path.rpartition("/")[0] in (_SESSIONS, _ACCOUNTS, _SUBSCRIPTIONS):
            methods.append("DELETE")
        return methods

    # Changing

    def _act(self, device: Hardware, request: Request, path: str, who: str) -> Reply:
        handler = self.posts.get(path)
        if handler is None and find_resource(device, path) is None:
            return error(404, "ResourceMissingAtURI", path)
        if request.method not in self.allowed(path) and not (handler and request.method == "POST"):
            reply = error(405, "OperationNotAllowed")
            reply.headers["Allow"] = ", ".join(self.allowed(path))
            return reply
        if not _may(device, who, request, path, handler[0] if handler else None):
            return error(403, "InsufficientPrivilege")
        if request.method == "DELETE":
            return _delete(device, path)
        body = _parse(request)
        if body is None:
            return error(400, "MalformedJSON")
        if request.method == "PATCH":
            return self._patch(device, request, path, body)
        assert handler is not None
        reply = handler[1](device, request, body)
        lost = device.take_fault("answer lost", on="reset" if path.endswith(".Reset") else "update")
        if lost is not None and reply.status < 300:
            device.note("answer lost", on=lost.on)
            reply.lost = True
        return reply

    def _patch(self, device: Hardware, request: Request, path: str, body: Resource) -> Reply:
        found = find_resource(device, path) or {}
        match = request.headers.get("if-match")
        if match is not None and match not in ("*", etag(found)):
            return error(412, "PreconditionFailed")
        good, notes = sort_changes(found, body, writable(path) or {})
        if body and not good and not notes:  # only OData annotations: nothing was to be changed (DSP0266, PATCH)
            tag = etag(found)
            shown = {"@odata.id": path, "@odata.etag": tag, **found, "@Message.ExtendedInfo": [message("NoOperation")]}
            return _json(shown, headers={"ETag": tag})
        if not good:
            return refuse(400, notes or [message("UnrecognizedRequestBody")])
        change(device, path, good)
        after = find_resource(device, path) or {}
        shown = {"@odata.id": path, "@odata.etag": etag(after), **after}
        if notes:
            shown["@Message.ExtendedInfo"] = notes
        return _json(shown, headers={"ETag": etag(after)})


# Who asks


def _who(device: Hardware, request: Request) -> str | None:
    """The account that a request comes from, or None."""
    token = request.headers.get("x-auth-token")
    if token is not None:
        return device.sessions[token][1] if token in device.sessions else None
    scheme, _, value = request.headers.get("authorization", "").partition(" ")
    if scheme.lower() != "basic":
        return None
    try:
        user, _, password = base64.b64decode(value, validate=True).decode().partition(":")
    except (binascii.Error, UnicodeDecodeError):
        return None
    return device.find_account(user, password)


def _may(device: Hardware, who: str, request: Request, path: str, needed: str | None) -> bool:
    owns = PRIVILEGES[device.accounts[who].role]
    if path.startswith(f"{_ACCOUNTS}/") and request.method != "POST":
        if path == f"{_ACCOUNTS}/{who}" and request.method == "PATCH":
            only = set(_parse(request) or {}) <= {"Password"}
            return "ConfigureUsers" in owns or (only and "ConfigureSelf" in owns)
        return "ConfigureUsers" in owns
    if path.startswith(f"{_SESSIONS}/"):
        own = any(number == path.rsplit("/", 1)[-1] and a == who for number, a in device.sessions.values())
        return own or "ConfigureManager" in owns
    if needed is None:
        needed = "ConfigureComponents" if path.startswith((f"{V1}/Systems", f"{V1}/Chassis")) else "ConfigureManager"
    return needed in owns


def _sessions_of(device: Hardware) -> tuple[str, ...]:
    """Where sessions are opened."""
    if "sessions elsewhere" in device.quirks:
        return (ELSEWHERE,)
    return (_SESSIONS, f"{_SESSIONS}/Members")


def _sign_in(device: Hardware, request: Request) -> Reply:
    body = _parse(request)
    if body is None:
        return error(400, "MalformedJSON")
    for name in ("UserName", "Password"):
        if name not in body:
            return refuse(400, [message("PropertyMissing", name, related=name)])
    signed = device.sign_in(str(body["UserName"]), str(body["Password"]))
    if signed is None:
        reply = error(401, "ResourceAtUriUnauthorized", _SESSIONS, "the user name or the password is wrong")
        reply.headers["WWW-Authenticate"] = f'Basic realm="{device.serial}"'
        return reply
    number, token = signed
    path = f"{_SESSIONS}/{number}"
    status = 200 if "sessions elsewhere" in device.quirks else 201
    return _json(find_resource(device, path) or {}, status, {"X-Auth-Token": token, "Location": path})


def _delete(device: Hardware, path: str) -> Reply:
    parent, _, name = path.rpartition("/")
    if parent == _SESSIONS:
        device.sessions = {t: s for t, s in device.sessions.items() if s[0] != name}
    elif parent == _SUBSCRIPTIONS:
        del device.subscriptions[name]
    elif name == "1":
        return error(403, "InsufficientPrivilege")
    else:
        del device.accounts[name]
        device.sessions = {t: s for t, s in device.sessions.items() if s[1] != name}
    return Reply(status=204, headers=dict(HEADERS))


# Updates


def _open(device: Hardware, request: Request, body: Resource) -> Task | Reply:
    targets = body.get("Targets") or []
    slots = [str(target).rsplit("/", 1)[-1] for target in targets] if isinstance(targets, list) else []
    if not slots or not all(device.part(slot) for slot in slots):
        return error(400, "ActionParameterValueNotInList", str(targets)[:100], "Targets", "update")
    if device.running_task() is not None:
        reply = error(503, "ServiceTemporarilyUnavailable", "30")
        reply.headers["Retry-After"] = "30"
        return reply
    if device.has_fault("job pending"):
        return error(409, "ResourceInUse")
    shown = {"HttpOperation": "POST", "TargetUri": request.path, "JsonBody": json.dumps(body)}
    return device.open_task(slots, shown)


def _accepted(task: Task, pull: tuple[Task, str] | None = None) -> Reply:
    path = f"{V1}/TaskService/Tasks/{task.id}"
    body = {"@odata.id": path, "@odata.type": f"#Task.{SCHEMAS['Task']}.Task", "Id": task.id, **updates.task_body(task)}
    reply = _json(body, 202, {"Location": f"{V1}/TaskMonitors/{task.id}"})
    reply.pull = pull
    return reply


def _taken_on(device: Hardware, task: Task, pull: tuple[Task, str] | None = None) -> Reply:
    """The answer to an update request, as this controller gives it."""
    reply = _accepted(task, pull)
    if {"empty 202", "bare 202"} & device.quirks:
        reply.body = b""
    if "bare 202" in device.quirks:
        del reply.headers["Location"]
    elif "no task list" in device.quirks:
        reply.body = b""
    elif "no task state" in device.quirks:
        reply.body = json.dumps(apply_quirks(device, json.loads(reply.body))).encode() if reply.body else b""
    return reply


def _pull(device: Hardware, request: Request, body: Resource) -> Reply:
    allowed = updates.PULL_PROTOCOLS[device.generation]
    if not allowed:
        return error(404, "ResourceMissingAtURI", request.path)
    if "ImageURI" not in body:
        return error(400, "ActionParameterMissing", "SimpleUpdate", "ImageURI")
    uri = str(body["ImageURI"])
    if uri.partition(":")[0].upper() not in allowed:
        return error(400, "ActionParameterValueNotInList", uri, "ImageURI", f"SimpleUpdate over {', '.join(allowed)}")
    task = _open(device, request, body)
    return task if isinstance(task, Reply) else _taken_on(device, task, (task, uri))


def _push(device: Hardware, request: Request, body: Resource) -> Reply:
    if updates.PUSH_URI not in updates.push_uris(device):
        return error(403, "NotApplicableToTarget")
    if request.parts is None:
        return error(415, "UnrecognizedRequestBody")
    raw, image = request.parts.get("UpdateParameters"), request.parts.get("UpdateFile")
    if raw is None or image is None:
        return error(400, "ActionParameterMissing", "push", "UpdateParameters" if raw is None else "UpdateFile")
    parameters = _load(raw)
    if parameters is None:
        return error(400, "MalformedJSON")
    task = _open(device, request, parameters)
    if isinstance(task, Reply):
        return task
    device.receive_image(task, image)
    return _taken_on(device, task)


def _push_raw(device: Hardware, request: Request, body: Resource) -> Reply:
    """The old way: the image alone; the service decides what it is for."""
    if updates.RAW_PUSH_URI not in updates.push_uris(device):
        return error(404, "ResourceMissingAtURI", request.path)
    own = next(part for part in device.parts if part.kind == "controller")
    task = _open(device, request, {"Targets": [f"{systems.INVENTORY}/{own.slot}"]})
    if isinstance(task, Reply):
        return task
    device.receive_image(task, request.body)
    return _taken_on(device, task)


def _monitor(device: Hardware, number: str) -> Reply:
    device.advance()
    task = next((task for task in updates.tasks_of(device) if task.id == number), None)
    if task is None:
        return error(404, "ResourceMissingAtURI", f"{V1}/TaskMonitors/{number}")
    reply = _accepted(task)
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
    told = {"MessageId": name, "Message": f"{name.rsplit('.', 1)[1]}: {', '.join(args)}", "MessageArgs": args}
    return _json({"error": {"code": name, "message": told["Message"], "@Message.ExtendedInfo": [told]}}, 400)


# Resets, media, accounts, events


def _reset(allowed: tuple[str, ...], act: Callable[[Hardware], None]) -> Handler:
    def handle(device: Hardware, request: Request, body: Resource) -> Reply:
        if body.get("ResetType") not in allowed:
            return error(400, "ActionParameterValueNotInList", str(body.get("ResetType")), "ResetType", "Reset")
        act(device)
        return Reply(status=204, headers=dict(HEADERS), restarts=device.is_away)

    return handle


_RESTARTS = _reset(("GracefulRestart", "ForceRestart"), Hardware.reboot)
_CYCLES = _reset(("PowerCycle",), Hardware.power_cycle)


def _reset_system(device: Hardware, request: Request, body: Resource) -> Reply:
    wanted = body.get("ResetType")
    if wanted == "PushPowerButton":  # whether that boots or kills it depends on its system: nobody should
        device.note("button pushed")
        return Reply(status=204, headers=dict(HEADERS))
    if wanted == "PowerCycle" and "power cycle on system" in device.quirks:
        return _CYCLES(device, request, body)
    if wanted == "GracefulRestart" and "graceful ignored" in device.quirks:
        device.note("graceful restart ignored")
        return Reply(status=204, headers=dict(HEADERS))
    return _RESTARTS(device, request, body)


def _reset_chassis(device: Hardware, request: Request, body: Resource) -> Reply:
    if "power cycle on system" in device.quirks:
        return error(404, "ResourceMissingAtURI", request.path)
    return _CYCLES(device, request, body)


def _replace_certificate(device: Hardware, request: Request, body: Resource) -> Reply:
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


def _insert(device: Hardware, request: Request, body: Resource) -> Reply:
    image = body.get("Image")
    if not isinstance(image, str):
        return error(400, "ActionParameterMissing", "InsertMedia", "Image")
    if device.media:
        return error(409, "ResourceInUse")
    device.media = {"Image": image}
    device.note("media inserted", image=image)
    return Reply(status=204, headers=dict(HEADERS))


def _eject(device: Hardware, request: Request, body: Resource) -> Reply:
    device.media = {}
    device.note("media ejected")
    return Reply(status=204, headers=dict(HEADERS))


def _new_account(device: Hardware, request: Request, body: Resource) -> Reply:
    return _made(device, _ACCOUNTS, add_account(device, body))


def _subscribe(device: Hardware, request: Request, body: Resource) -> Reply:
    return _made(device, _SUBSCRIPTIONS, add_subscription(device, body))


def _made(device: Hardware, parent: str, made: str | list[Resource]) -> Reply:
    if not isinstance(made, str):
        return refuse(400, made)
    path = f"{parent}/{made}"
    return _json(find_resource(device, path) or {}, 201, {"Location": path})


def _test_event(device: Hardware, request: Request, body: Resource) -> Reply:
    reply = Reply(status=204, headers=dict(HEADERS))
    event = make_event(device, message("TestMessage", registry="ResourceEvent"))
    device.events.append(event)
    reply.send = [
        (str(s["Destination"]), {**event, "Context": s["Context"]})
        for s in device.subscriptions.values()
        if s["SubscriptionType"] == "RedfishEvent"
    ]
    return reply


def make_event(device: Hardware, told: Resource) -> Resource:
    """An event as a subscriber or a stream gets it."""
    number = str(len(device.events) + 1)
    record = {"MemberId": "0", "EventId": number, "EventType": "Other", **told, "OriginOfCondition": link(V1)}
    del record["@odata.type"], record["Resolution"]
    return {"@odata.type": "#Event.v1_7_0.Event", "Id": number, "Name": "Event", "Events": [record]}


# Spelling


def etag(body: Resource) -> str:
    """A strong tag over everything that doesn't change by itself."""
    steady = {key: value for key, value in body.items() if key not in _VOLATILE}
    return f'"{hashlib.sha256(json.dumps(steady, sort_keys=True).encode()).hexdigest()[:20]}"'


def _schema_of(odata_type: str) -> str:
    name = odata_type.lstrip("#").rsplit(".", 1)[0]
    return f"http://redfish.dmtf.org/schemas/v1/{name}.json"


def _parse(request: Request) -> Resource | None:
    if request.parts is not None or request.headers.get("content-type", "").startswith("application/octet-stream"):
        return {}
    return _load(request.body or b"{}")


def _load(raw: bytes) -> Resource | None:
    try:
        body = json.loads(raw)
    except (ValueError, RecursionError):
        return None
    return body if isinstance(body, dict) else None


def _json(value: Resource, status: int = 200, headers: Mapping[str, str] | None = None) -> Reply:
    spelled = {**HEADERS, "Content-Type": "application/json; charset=utf-8", **(headers or {})}
    return Reply(status=status, headers=spelled, body=json.dumps(value).encode())


def error(status: int, key: str, *args: str) -> Reply:
    """An error with one message of a registry."""
    return refuse(status, [message(key, *args)])


def refuse(status: int, messages: list[Resource]) -> Reply:
    """An error body with extended information (DSP0266, error responses)."""
    first = messages[0]
    told = {"code": first["MessageId"], "message": first["Message"], "@Message.ExtendedInfo": messages}
    return _json({"error": told}, status)


def _odata(device: Hardware) -> Resource:
    root: Resource = find_resource(device, V1) or {}
    links = {
        name: value["@odata.id"] for name, value in root.items() if isinstance(value, dict) and "@odata.id" in value
    }
    value = [{"name": name, "kind": "Singleton", "url": url} for name, url in {"Service": f"{V1}/", **links}.items()]
    return {"@odata.context": f"{V1}/$metadata", "value": value}


def metadata() -> bytes:
    """The OData metadata document: a reference to the schema of every type in use."""
    space = "http://docs.oasis-open.org/odata/ns"
    kinds = [*SCHEMAS, *(f"{k}Collection" for k in SCHEMAS)]
    references = []
    for kind in kinds:
        version = SCHEMAS.get(kind)
        names = [kind] + ([f"{kind}.{version}"] if version else [])
        file = f"{kind}_v1.xml"
        includes = "".join(f'<edmx:Include Namespace="{name}"/>' for name in names)
        uri = f"http://redfish.dmtf.org/schemas/v1/{file}"
        references.append(f'<edmx:Reference Uri="{uri}">{includes}</edmx:Reference>')
    root = f"ServiceRoot.{SCHEMAS['ServiceRoot']}"
    container = (
        f'<edmx:DataServices><Schema xmlns="{space}/edm" Namespace="Service">'
        f'<EntityContainer Name="Service" Extends="{root}.ServiceContainer"/></Schema></edmx:DataServices>'
    )
    head = f'<?xml version="1.0" encoding="UTF-8"?><edmx:Edmx xmlns:edmx="{space}/edmx" Version="4.0">'
    text = f"{head}{''.join(references)}{container}</edmx:Edmx>"
    return re.sub(r"\s+", " ", text).encode()
