"""One request in, one reply out: the whole Redfish service of a stand-in without a socket.

The HTTPS face and the in-process face both call ``Service.answer``, so that they can't differ.
What takes a network (a actions.pull, delivering an event) is handed back on the reply for the face to do.
"""

from __future__ import annotations

import base64
import binascii
import dataclasses
import itertools
import re

from ordnung.standins.hardware import Hardware
from ordnung.standins.parts import PRIVILEGES
from ordnung.standins.redfish import actions, chassis, enclosure, managers, partitions, second, systems, updates
from ordnung.standins.redfish.accounts import SSE, TEST_EVENT
from ordnung.standins.redfish.actions import ACCOUNTS, SUBSCRIPTIONS
from ordnung.standins.redfish.changes import change, object_to, sort_changes, writable
from ordnung.standins.redfish.half_awake import answer_half_awake
from ordnung.standins.redfish.query import QueryError, apply_query, is_open
from ordnung.standins.redfish.quirks import ELSEWHERE
from ordnung.standins.redfish.registries import message
from ordnung.standins.redfish.tree import SCHEMAS, V1, Resource, find_resource
from ordnung.standins.redfish.wire import (
    HEADERS,
    Handler,
    Reply,
    Request,
    as_reply,
    error,
    etag,
    parse,
    put_off,
    refuse,
    schema_of,
)
from ordnung.standins.sessions import find_account, sign_in

_METHODS = frozenset({"GET", "HEAD", "POST", "PATCH", "PUT", "DELETE", "OPTIONS"})
"""What HTTP methods this service knows at all; any other is 501 (RFC 9110, 15.6.2)."""
_SESSIONS = f"{V1}/SessionService/Sessions"
_MEDIA = f"{V1}/Systems/1/VirtualMedia/CD1/Actions"


def not_implemented(method: str) -> Reply:
    """What a service says of an HTTP method that it does not know at all."""
    return error(501, "ActionNotSupported", method)


class Service:
    """Answers for any device. Holds no state of its own: everything is in the hardware."""

    def __init__(self) -> None:
        self.posts: dict[str, tuple[str, Handler]] = {
            updates.UPDATE_ACTION: ("ConfigureComponents", actions.pull),
            updates.PUSH_URI: ("ConfigureComponents", actions.push),
            updates.RAW_PUSH_URI: ("ConfigureComponents", actions.push_raw),
            systems.SYSTEM_RESET: ("ConfigureComponents", actions.reset_system),
            chassis.CHASSIS_RESET: ("ConfigureComponents", actions.reset_chassis),
            enclosure.CHASSIS_RESET: ("ConfigureComponents", actions.reset_enclosure),
            enclosure.MANAGER_RESET: ("ConfigureManager", actions.reset_enclosure_manager),
            managers.REPLACE_CERTIFICATE: ("ConfigureManager", actions.replace_certificate),
            managers.MANAGER_RESET: (
                "ConfigureManager",
                actions.make_reset(("GracefulRestart", "ForceRestart"), "restart the controller"),
            ),
            TEST_EVENT: ("ConfigureManager", actions.send_test_event),
            f"{_MEDIA}/VirtualMedia.InsertMedia": ("ConfigureManager", actions.insert_media),
            f"{_MEDIA}/VirtualMedia.EjectMedia": ("ConfigureManager", actions.eject_media),
            ACCOUNTS: ("ConfigureUsers", actions.make_account),
            f"{ACCOUNTS}/Members": ("ConfigureUsers", actions.make_account),
            SUBSCRIPTIONS: ("ConfigureManager", actions.subscribe),
            f"{SUBSCRIPTIONS}/Members": ("ConfigureManager", actions.subscribe),
        }

    def answer(self, device: Hardware, request: Request) -> Reply:
        """The reply to a request; the device is acted upon as asked."""
        path = request.path.rstrip("/") or "/"
        if (half := answer_half_awake(device, path)) is not None:
            return half
        if request.headers.get("odata-version", "4.0") != "4.0":
            return error(412, "PreconditionFailed")
        if device.take_fault("session expired"):
            device.sessions.clear()
        if request.method not in _METHODS:
            return not_implemented(request.method)
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
        if who is not None and _has_to_change_it(device, who, path):
            return error(403, "PasswordChangeRequired")
        if (busy := device.take_fault("busy")) is not None:
            return put_off(busy.seconds)
        if second.is_meant(device, request) and request.method not in ("GET", "HEAD"):
            assert device.beside is not None
            turned = second.turn(request)
            return second.turn_back(device, self._act(device.beside, turned, turned.path.rstrip("/"), who or ""))
        if request.method in ("GET", "HEAD"):
            reply = self._get(device, request, path)
            return Reply(status=reply.status, headers=reply.headers) if request.method == "HEAD" else reply
        return self._act(device, request, path, who or "")

    # Reading

    def _get(self, device: Hardware, request: Request, path: str) -> Reply:
        if path == "/redfish":
            return as_reply({"v1": f"{V1}/"}, headers={"Allow": "GET, HEAD"})
        if path == f"{V1}/odata":
            return as_reply(_odata(device), headers={"Allow": "GET, HEAD"})
        if path == f"{V1}/$metadata":
            headers = {**HEADERS, "Content-Type": "application/xml;charset=utf-8", "Allow": "GET, HEAD"}
            return Reply(status=200, headers=headers, body=metadata())
        if path == SSE:
            return Reply(status=200, headers={**HEADERS, "Content-Type": "text/event-stream"}, stream=True)
        if path.startswith(f"{V1}/TaskMonitors/"):
            return _show_monitor(device, path)
        found = find_resource(device, _SESSIONS if path in _sessions_of(device) else path)
        if found is None:
            return error(404, "ResourceMissingAtURI", path)
        try:
            shown = apply_query(device, found, request.query)
        except QueryError as refused:
            return error(refused.status, refused.key, *refused.arguments)
        return self._show(device, request, found, shown, path)

    def _show(self, device: Hardware, request: Request, found: Resource, shown: Resource, path: str) -> Reply:
        tag = _tag(device, found)
        if writable(path) is not None and "tags untold" not in device.quirks:
            shown = {"@odata.id": shown["@odata.id"], "@odata.etag": tag, **shown}
        headers = {
            "ETag": tag,
            "Allow": ", ".join(self.allowed(path)),
            "Link": f"<{schema_of(found['@odata.type'])}>; rel=describedby",
        }
        if request.headers.get("if-none-match") in (tag, "*"):
            return Reply(status=304, headers={**HEADERS, **headers})
        return as_reply(shown, headers=headers)

    def allowed(self, path: str) -> list[str]:
        """The methods a resource takes."""
        if path in self.posts and path not in (ACCOUNTS, SUBSCRIPTIONS):
            return ["POST"]
        methods = ["GET", "HEAD"]
        if path in (_SESSIONS, ACCOUNTS, SUBSCRIPTIONS):
            methods.append("POST")
        if writable(path) is not None:
            methods.append("PATCH")
        if path.rpartition("/")[0] in (_SESSIONS, ACCOUNTS, SUBSCRIPTIONS):
            methods.append("DELETE")
        return methods

    # Changing

    def _act(self, device: Hardware, request: Request, path: str, who: str) -> Reply:
        handler = self.posts.get(path) or self._initialize(path)
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
        body = parse(request)
        if body is None:
            return error(400, "MalformedJSON")
        if request.method == "PATCH":
            return self._patch(device, request, path, body)
        assert handler is not None
        on = "reset" if path.endswith(".Reset") else "update"
        if (busy := device.take_fault("busy", on=on)) is not None:
            return put_off(busy.seconds)
        if device.take_fault("fails early", on=on) is not None:
            return error(500, "InternalError")
        reply = handler[1](device, request, body)
        if reply.status < 300 and device.take_fault("fails late", on=on) is not None:
            return dataclasses.replace(error(500, "InternalError"), pull=reply.pull, device=reply.device)
        lost = device.take_fault("answer lost", on=on)
        if lost is not None and reply.status < 300:
            device.note("answer lost", on=lost.on)
            reply.lost = True
        return reply

    @staticmethod
    def _initialize(path: str) -> tuple[str, Handler] | None:
        """What sets up a partition, if that is what is asked for: its path has the partition's slot in it."""
        parts = path.removeprefix(f"{partitions.STORE}/Volumes/").split("/")
        is_it = path == partitions.initialize_uri(parts[0])
        return ("ConfigureComponents", actions.initialize) if is_it else None

    def _patch(self, device: Hardware, request: Request, path: str, body: Resource) -> Reply:
        found = find_resource(device, path) or {}
        match = request.headers.get("if-match")
        if match is None and "wants its tag" in device.quirks:
            return error(428, "PreconditionRequired")
        if match is not None and match not in ("*", _tag(device, found)):
            return error(412, "PreconditionFailed")
        good, notes = sort_changes(found, body, writable(path) or {})
        if body and not good and not notes:  # only OData annotations: nothing was to be changed (DSP0266, PATCH)
            tag = etag(found)
            shown = {"@odata.id": path, "@odata.etag": tag, **found, "@Message.ExtendedInfo": [message("NoOperation")]}
            return as_reply(shown, headers={"ETag": tag})
        if not good:
            return refuse(400, notes or [message("UnrecognizedRequestBody")])
        if objections := object_to(device, path, good):
            return refuse(400, objections)
        change(device, path, good)
        after = find_resource(device, path) or {}
        shown = {"@odata.id": path, "@odata.etag": etag(after), **after}
        if notes:
            shown["@Message.ExtendedInfo"] = notes
        return as_reply(shown, headers={"ETag": etag(after)})


_TAGS = itertools.count()


def _tag(device: Hardware, found: Resource) -> str:
    """The tag of a resource as it is shown just now."""
    if "tags change" not in device.quirks:
        return etag(found)
    return f'"{next(_TAGS)}"'


# Who asks


def _who(device: Hardware, request: Request) -> str | None:
    """The account that a request comes from, or None."""
    token = request.headers.get("x-auth-token")
    if token is not None:
        return device.sessions[token].account if token in device.sessions else None
    scheme, _, value = request.headers.get("authorization", "").partition(" ")
    if scheme.lower() != "basic" or any(f.kind == "sessions taken" and f.on == "alone" for f in device.faults):
        return None
    try:
        user, _, password = base64.b64decode(value, validate=True).decode().partition(":")
    except (binascii.Error, UnicodeDecodeError):
        return None
    return find_account(device, user, password)


def _may(device: Hardware, who: str, request: Request, path: str, needed: str | None) -> bool:
    owns = PRIVILEGES[device.accounts[who].role]
    if path.startswith(f"{ACCOUNTS}/") and request.method != "POST":
        if path == f"{ACCOUNTS}/{who}" and request.method == "PATCH":
            only = set(parse(request) or {}) <= {"Password"}
            return "ConfigureUsers" in owns or (only and "ConfigureSelf" in owns)
        return "ConfigureUsers" in owns
    if path.startswith(f"{_SESSIONS}/"):
        own = any(one.number == path.rsplit("/", 1)[-1] and one.account == who for one in device.sessions.values())
        return own or "ConfigureManager" in owns
    if needed is None:
        needed = "ConfigureComponents" if path.startswith((f"{V1}/Systems", f"{V1}/Chassis")) else "ConfigureManager"
    return needed in owns


def _show_monitor(device: Hardware, path: str) -> Reply:
    own = second.spell_back(path)
    if device.beside is None or own == path:
        return actions.show_monitor(device, path.rsplit("/", 1)[-1])
    return second.turn_back(device, actions.show_monitor(device.beside, own.rsplit("/", 1)[-1]))


def _sessions_of(device: Hardware) -> tuple[str, ...]:
    """Where sessions are opened."""
    if "sessions elsewhere" in device.quirks:
        return (ELSEWHERE,)
    return (_SESSIONS, f"{_SESSIONS}/Members")


def _sign_in(device: Hardware, request: Request) -> Reply:
    body = parse(request)
    if body is None:
        return error(400, "MalformedJSON")
    for name in ("UserName", "Password"):
        if name not in body:
            return refuse(400, [message("PropertyMissing", name, related=name)])
    if "strict sign-in" in device.quirks and (more := sorted(set(body) - {"UserName", "Password"})):
        return refuse(400, [message("PropertyUnknown", name, related=name) for name in more])
    if device.take_fault("sessions taken", on="alone") is not None:
        return error(400 if "strict sign-in" in device.quirks else 503, "SessionLimitExceeded")
    signed = sign_in(device, str(body["UserName"]), str(body["Password"]), str(body.get("Context") or ""))
    if signed is None:
        reply = error(401, "ResourceAtUriUnauthorized", _SESSIONS, "the user name or the password is wrong")
        reply.headers["WWW-Authenticate"] = f'Basic realm="{device.serial}"'
        return reply
    number, token = signed
    path = f"{_SESSIONS}/{number}"
    status = 200 if "sessions elsewhere" in device.quirks else 201
    body = find_resource(device, path) or {}
    if _has_to_change_it(device, device.sessions[token].account, path=""):
        body = {**body, "@Message.ExtendedInfo": [message("PasswordChangeRequired")]}
    return as_reply(body, status, {"X-Auth-Token": token, "Location": path})


def _has_to_change_it(device: Hardware, who: str, path: str) -> bool:
    """Whether all that an account may do is to change its password, and to sign out (DSP0266, "Password management")."""
    if "password enforced" not in device.quirks or not device.accounts[who].change_required or is_open(path):
        return False
    return path != f"{ACCOUNTS}/{who}" and not path.startswith(f"{_SESSIONS}/")


def _delete(device: Hardware, path: str) -> Reply:
    parent, _, name = path.rpartition("/")
    if parent == _SESSIONS:
        device.sessions = {t: s for t, s in device.sessions.items() if s.number != name}
    elif parent == SUBSCRIPTIONS:
        del device.subscriptions[name]
    elif name == "1":
        return error(403, "InsufficientPrivilege")
    else:
        del device.accounts[name]
        device.sessions = {t: s for t, s in device.sessions.items() if s.account != name}
    return Reply(status=204, headers=dict(HEADERS))


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
