"""The update service, what it lists, and its tasks."""

from __future__ import annotations

from ordnung.standins.hardware import Hardware, moment
from ordnung.standins.parts import Part, Task
from ordnung.standins.redfish.member_ids import INVENTORY, STAGED, STANDBY, find_member, images_of, member_id
from ordnung.standins.redfish.seen import parts_of
from ordnung.standins.redfish.systems import has_old_shapes
from ordnung.standins.redfish.tree import OK, V1, Resource, collection, link, resource

UPDATE_ACTION = f"{V1}/UpdateService/Actions/UpdateService.SimpleUpdate"
PUSH_URI = f"{V1}/UpdateService/update-multipart"
RAW_PUSH_URI = f"{V1}/UpdateService/update"
PULL_PROTOCOLS: dict[str, list[str]] = {"newest": ["HTTPS", "HTTP"], "middle": ["HTTP"], "oldest": []}
"""What a controller's generation can pull over."""
UNAIMED = frozenset({"targets unknown", "plain push"})
"""Manners of a service that tells by the image alone what it is for."""
ENDED = ("Completed", "Exception", "Cancelled", "Killed")


def pull_protocols(device: Hardware) -> list[str]:
    """Over what it fetches images; empty where it fetches none."""
    return [] if "plain push" in device.quirks else PULL_PROTOCOLS[device.generation]


def push_uris(device: Hardware) -> list[str]:
    """Where images may be pushed to: the oldest take the raw body only; without a licence nothing is taken."""
    if device.has_fault("licence missing"):
        return []
    return [RAW_PUSH_URI] if device.generation == "oldest" or "plain push" in device.quirks else [PUSH_URI]


@resource("UpdateService", "UpdateService", "v1_11_0", "Update service")
def update_service(device: Hardware) -> Resource:
    service: Resource = {
        "ServiceEnabled": True,
        "Status": OK,
        "FirmwareInventory": link(INVENTORY),
        "SupportedUpdateImageFormats": ["PLDMv1_0", "PLDMv1_1", "PLDMv1_2", "PLDMv1_3"],
        "MaxImageSizeBytes": 64 * 1024 * 1024,
        "Actions": {},
    }
    if parts_of(device, "store"):
        service["SoftwareInventory"] = link(f"{V1}/UpdateService/SoftwareInventory")
    if PUSH_URI in push_uris(device):
        service["MultipartHttpPushUri"] = PUSH_URI
        service |= _apply_times(device, "MultipartHttpPushUri")
    if RAW_PUSH_URI in push_uris(device):
        service["HttpPushUri"] = RAW_PUSH_URI
    protocols = pull_protocols(device)
    if protocols:
        service["VerifyRemoteServerCertificate"] = True
        action: Resource = {"target": UPDATE_ACTION, **_apply_times(device)}
        if "pulls untold" not in device.quirks:
            action["TransferProtocol@Redfish.AllowableValues"] = protocols
        if "targets elsewhere" in device.quirks:
            action["Targets@Redfish.AllowableValues"] = sorted({related(device, part) for part in _listed(device)})
        service["Actions"]["#UpdateService.SimpleUpdate"] = action
    return service


def _apply_times(device: Hardware, of: str = "") -> Resource:
    times = apply_times(device)
    if times is None:
        return {}
    support = {"@odata.type": "#Settings.v1_3_0.OperationApplyTimeSupport", "SupportedValues": times}
    return {f"{of}@Redfish.OperationApplyTimeSupport": support}


def apply_times(device: Hardware) -> list[str] | None:
    """The apply times that a client may ask for; None where it may not ask."""
    if "no apply time" in device.quirks:
        return None
    return ["OnReset"] if "writes at reset" in device.quirks else ["Immediate", "OnReset"]


@resource("UpdateService/SimpleUpdateActionInfo", "ActionInfo", "v1_4_0", "Simple update")
def update_action_info(device: Hardware) -> Resource | None:
    if "action info" not in device.quirks or not pull_protocols(device):
        return None
    names: dict[str, list[str] | None] = {"ImageURI": None, "Targets": None}
    if UNAIMED & device.quirks:
        del names["Targets"]
    names["TransferProtocol"] = pull_protocols(device)
    described = [{"Name": name, "Required": name == "ImageURI", "DataType": "String"} for name in names]
    return {
        "Parameters": [{**one, "AllowableValues": v} if (v := names[str(one["Name"])]) else one for one in described]
    }


def _listed(device: Hardware) -> list[Part]:
    kinds = ("bios", "controller") if device.generation == "oldest" else None
    return [p for p in device.seen if p.kind != "store" and (kinds is None or p.kind in kinds)]


@collection("UpdateService/FirmwareInventory", "SoftwareInventory")
def inventory(device: Hardware) -> list[str]:
    pairs = [(part, image) for part in _listed(device) for image in images_of(device, part)]
    pairs.sort(key=lambda pair: ("", STANDBY, STAGED).index(pair[1]))
    return [member_id(device, part, image) for part, image in pairs]


@resource("UpdateService/FirmwareInventory/{name}", "SoftwareInventory", "v1_10_0")
def software(device: Hardware, name: str) -> Resource | None:
    found = find_member(device, _listed(device), name)
    if found is None:
        return None
    part, image = found
    version = device.shown_version(part)
    state = "Disabled" if part.dead else "Enabled"
    if image == STANDBY:
        version, state = part.spare, "StandbyOffline"
    elif image == STAGED:
        version, state = part.waiting, "StandbySpare"
    takes = part.updateable and not part.dead and not image
    return {
        "Name": part.name,
        "SoftwareId": part.software_id,
        "Version": version,
        "Updateable": takes and (device.generation != "oldest" or part.kind == "controller"),
        "Status": {"State": state, "Health": "Critical" if part.dead else "OK"},
        "RelatedItem": [link(related(device, part))],
        "RelatedItem@odata.count": 1,
    }


def related(device: Hardware, part: Part) -> str:
    """What the firmware of a part is the firmware of."""
    storage, power = f"{V1}/Systems/1/Storage/1", f"{V1}/Chassis/1/PowerSubsystem/PowerSupplies/{part.slot}"
    raid = f"{storage}/Controllers/{part.slot}"
    if has_old_shapes(device):
        raid, power = storage, f"{V1}/Chassis/1/Power"
    return {
        "bios": f"{V1}/Systems/1/Bios",
        "controller": f"{V1}/Managers/1",
        "raid": raid,
        "nic": f"{V1}/Chassis/1/NetworkAdapters/{part.slot}",
        "drive": f"{storage}/Drives/{part.slot}",
        "power": f"{V1}/Chassis/1" if "no optional" in device.quirks else power,
    }.get(part.kind, f"{V1}/Chassis/1")


@resource("TaskService", "TaskService", "v1_2_0", "Tasks")
def task_service(device: Hardware) -> Resource:
    return {
        "ServiceEnabled": True,
        "DateTime": moment(device.now() + device.skew),
        "CompletedTaskOverWritePolicy": "Oldest",
        "LifeCycleEventOnTaskStateChange": True,
        "Status": OK,
        "Tasks": link(f"{V1}/TaskService/Tasks"),
    }


def tasks_of(device: Hardware) -> list[Task]:
    """Its update tasks, and a job of someone else's if there is one."""
    foreign = Task("job-1", [], {}, device.system_reset_at, state="Pending", name="Configuration job of another")
    return [*device.tasks, *([foreign] if device.has_fault("job pending") else [])]


collection("TaskService/Tasks", "Task")(lambda device: [task.id for task in tasks_of(device)])


def task_body(task: Task) -> Resource:
    """A task as Redfish shows it, without its head."""
    body: Resource = {
        "Name": task.name,
        "TaskState": task.state,
        "TaskStatus": task.status,
        "PercentComplete": task.percent,
        "StartTime": moment(task.started),
        "TaskMonitor": f"{V1}/TaskMonitors/{task.id}",
        "Messages": [
            {"MessageId": name, "MessageArgs": args, "Message": f"{name.rsplit('.', 1)[1]}: {', '.join(args)}"}
            for name, args in task.messages
        ],
    }
    if task.payload:
        body["Payload"] = task.payload
    if task.ended is not None:
        body["EndTime"] = moment(task.ended)
    return body
