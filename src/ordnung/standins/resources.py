"""The Redfish resources of one server, built from its hardware model when asked for."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from ordnung.standins.hardware import Hardware, Part, Task, moment

V1 = "/redfish/v1"
Resource = dict[str, Any]
UPDATE_ACTION = f"{V1}/UpdateService/Actions/UpdateService.SimpleUpdate"
PUSH_URI = f"{V1}/UpdateService/update-multipart"
SYSTEM_RESET = f"{V1}/Systems/1/Actions/ComputerSystem.Reset"
CHASSIS_RESET = f"{V1}/Chassis/1/Actions/Chassis.Reset"
MANAGER_RESET = f"{V1}/Managers/1/Actions/Manager.Reset"
PULL_PROTOCOLS = {"newest": ["HTTPS", "HTTP"], "middle": ["HTTP"]}
"""What a controller's generation can pull over."""


def find_resource(device: Hardware, path: str) -> Resource | None:
    """The resource at ``path`` (without a trailing slash), or None."""
    device.advance()
    fixed = _FIXED.get(path)
    if fixed is not None:
        return fixed(device)
    parent, _, name = path.rpartition("/")
    member = _MEMBERS.get(parent)
    return member(device, name) if member is not None else None


def _head(path: str, kind: str, version: str, name: str) -> Resource:
    return {
        "@odata.id": path,
        "@odata.type": f"#{kind}.{version}.{kind}",
        "Id": path.rsplit("/", 1)[-1],
        "Name": name,
    }


def _collection(path: str, kind: str, members: list[str]) -> Resource:
    return {
        "@odata.id": path,
        "@odata.type": f"#{kind}Collection.{kind}Collection",
        "Name": f"{kind} collection",
        "Members": [{"@odata.id": f"{path}/{member}"} for member in members],
        "Members@odata.count": len(members),
    }


def _link(path: str) -> dict[str, str]:
    return {"@odata.id": path}


_OK = {"State": "Enabled", "Health": "OK"}


def _root(device: Hardware) -> Resource:
    return {
        **_head(V1, "ServiceRoot", "v1_15_0", "Root service"),
        "Id": "RootService",
        "RedfishVersion": "1.18.0",
        "UUID": device.uuid,
        "Systems": _link(f"{V1}/Systems"),
        "Chassis": _link(f"{V1}/Chassis"),
        "Managers": _link(f"{V1}/Managers"),
        "UpdateService": _link(f"{V1}/UpdateService"),
        "Tasks": _link(f"{V1}/TaskService"),
        "SessionService": _link(f"{V1}/SessionService"),
        "Links": {"Sessions": _link(f"{V1}/SessionService/Sessions")},
    }


def _session_service(device: Hardware) -> Resource:
    return {
        **_head(f"{V1}/SessionService", "SessionService", "v1_1_9", "Session service"),
        "ServiceEnabled": True,
        "SessionTimeout": 1800,
        "Sessions": _link(f"{V1}/SessionService/Sessions"),
    }


def _sessions(device: Hardware) -> Resource:
    return _collection(f"{V1}/SessionService/Sessions", "Session", list(device.sessions.values()))


def _session(device: Hardware, name: str) -> Resource | None:
    if name not in device.sessions.values():
        return None
    return {
        **_head(f"{V1}/SessionService/Sessions/{name}", "Session", "v1_7_0", "Session"),
        "UserName": device.user,
    }


def _system(device: Hardware) -> Resource:
    bios = _of_kind(device, "bios")
    return {
        **_head(f"{V1}/Systems/1", "ComputerSystem", "v1_20_0", device.name),
        "SystemType": "Physical",
        "Model": device.model,
        "Manufacturer": device.model.split()[0],
        "SerialNumber": device.serial,
        "UUID": device.uuid,
        "HostName": device.name,
        "PowerState": "On",
        "BiosVersion": device.shown_version(bios[0]) if bios else None,
        "BootProgress": {"LastState": device.boot_state},
        "LastResetTime": moment(device.system_reset_at),
        "Status": _OK,
        "Bios": _link(f"{V1}/Systems/1/Bios"),
        "Storage": _link(f"{V1}/Systems/1/Storage"),
        "Links": {"Chassis": [_link(f"{V1}/Chassis/1")], "ManagedBy": [_link(f"{V1}/Managers/1")]},
        "Actions": {
            "#ComputerSystem.Reset": {
                "target": SYSTEM_RESET,
                "ResetType@Redfish.AllowableValues": ["On", "ForceOff", "GracefulRestart", "ForceRestart"],
            }
        },
    }


def _bank_links(device: Hardware, part: Part) -> Resource:
    images = [_link(f"{V1}/UpdateService/FirmwareInventory/{part.slot}")]
    if part.spare is not None:
        images.append(_link(f"{V1}/UpdateService/FirmwareInventory/{part.slot}.standby"))
    return {"ActiveSoftwareImage": images[0], "SoftwareImages": images}


def _bios(device: Hardware) -> Resource:
    part = _of_kind(device, "bios")[0]
    return {**_head(f"{V1}/Systems/1/Bios", "Bios", "v1_2_0", "BIOS"), "Links": _bank_links(device, part)}


def _manager(device: Hardware) -> Resource:
    part = _of_kind(device, "controller")[0]
    return {
        **_head(f"{V1}/Managers/1", "Manager", "v1_17_0", "Management controller"),
        "ManagerType": "BMC",
        "FirmwareVersion": device.shown_version(part),
        "DateTime": moment(device.now()),
        "LastResetTime": moment(device.controller_reset_at),
        "Status": _OK,
        "Links": {**_bank_links(device, part), "ManagerForServers": [_link(f"{V1}/Systems/1")]},
        "Actions": {
            "#Manager.Reset": {
                "target": MANAGER_RESET,
                "ResetType@Redfish.AllowableValues": ["GracefulRestart", "ForceRestart"],
            }
        },
    }


def _chassis(device: Hardware) -> Resource:
    return {
        **_head(f"{V1}/Chassis/1", "Chassis", "v1_23_0", device.name),
        "ChassisType": "RackMount",
        "Model": device.model,
        "SerialNumber": device.serial,
        "PowerState": "On",
        "Status": _OK,
        "NetworkAdapters": _link(f"{V1}/Chassis/1/NetworkAdapters"),
        "PCIeDevices": _link(f"{V1}/Chassis/1/PCIeDevices"),
        "PowerSubsystem": _link(f"{V1}/Chassis/1/PowerSubsystem"),
        "Actions": {"#Chassis.Reset": {"target": CHASSIS_RESET, "ResetType@Redfish.AllowableValues": ["PowerCycle"]}},
    }


def _storage_collection(device: Hardware) -> Resource:
    return _collection(f"{V1}/Systems/1/Storage", "Storage", ["1"] if _of_kind(device, "raid", "drive") else [])


def _storage(device: Hardware) -> Resource:
    base = f"{V1}/Systems/1/Storage/1"
    return {
        **_head(base, "Storage", "v1_15_0", "Storage"),
        "Status": _OK,
        "Controllers": _link(f"{base}/Controllers"),
        "Drives": [_link(f"{base}/Drives/{part.slot}") for part in _of_kind(device, "drive")],
    }


def _storage_controllers(device: Hardware) -> Resource:
    return _collection(f"{V1}/Systems/1/Storage/1/Controllers", "StorageController", _slots(device, "raid"))


def _storage_controller(device: Hardware, name: str) -> Resource | None:
    part = _named(device, name, "raid")
    if part is None:
        return None
    base = f"{V1}/Systems/1/Storage/1/Controllers/{name}"
    return {
        **_head(base, "StorageController", "v1_7_0", part.name),
        **_device_facts(device, part),
        "Links": {"PCIeFunctions": [_link(f"{V1}/Chassis/1/PCIeDevices/{name}/PCIeFunctions/1")]},
    }


def _drive(device: Hardware, name: str) -> Resource | None:
    part = _named(device, name, "drive")
    if part is None:
        return None
    base = f"{V1}/Systems/1/Storage/1/Drives/{name}"
    return {
        **_head(base, "Drive", "v1_17_0", part.name),
        "Model": part.name,
        "PartNumber": part.number,
        "Revision": device.shown_version(part),
        "Status": _OK,
    }


def _adapters(device: Hardware) -> Resource:
    return _collection(f"{V1}/Chassis/1/NetworkAdapters", "NetworkAdapter", _slots(device, "nic"))


def _adapter(device: Hardware, name: str) -> Resource | None:
    part = _named(device, name, "nic")
    if part is None:
        return None
    return {
        **_head(f"{V1}/Chassis/1/NetworkAdapters/{name}", "NetworkAdapter", "v1_9_0", part.name),
        "Model": part.name,
        "PartNumber": part.number,
        "Status": _OK,
        "Controllers": [
            {
                "FirmwarePackageVersion": device.shown_version(part),
                "Links": {"PCIeDevices": [_link(f"{V1}/Chassis/1/PCIeDevices/{name}")]},
            }
        ],
    }


def _pcie_devices(device: Hardware) -> Resource:
    cards = [part.slot for part in device.parts if part.pci]
    return _collection(f"{V1}/Chassis/1/PCIeDevices", "PCIeDevice", cards)


def _pcie_device(device: Hardware, name: str) -> Resource | None:
    part = device.part(name)
    if part is None or not part.pci:
        return None
    base = f"{V1}/Chassis/1/PCIeDevices/{name}"
    return {
        **_head(base, "PCIeDevice", "v1_12_0", part.name),
        "FirmwareVersion": device.shown_version(part),
        "Status": _OK,
        "PCIeFunctions": _link(f"{base}/PCIeFunctions"),
    }


def _pcie_functions(device: Hardware, slot: str) -> Resource | None:
    part = device.part(slot)
    if part is None or not part.pci:
        return None
    return _collection(f"{V1}/Chassis/1/PCIeDevices/{slot}/PCIeFunctions", "PCIeFunction", ["1"])


def _pcie_function(device: Hardware, slot: str) -> Resource | None:
    part = device.part(slot)
    if part is None or not part.pci:
        return None
    vendor, product, subvendor, subproduct = (f"0x{piece}" for piece in part.pci.split(":"))
    return {
        **_head(f"{V1}/Chassis/1/PCIeDevices/{slot}/PCIeFunctions/1", "PCIeFunction", "v1_5_0", part.name),
        "VendorId": vendor,
        "DeviceId": product,
        "SubsystemVendorId": subvendor,
        "SubsystemId": subproduct,
    }


def _power_subsystem(device: Hardware) -> Resource:
    base = f"{V1}/Chassis/1/PowerSubsystem"
    return {
        **_head(base, "PowerSubsystem", "v1_1_0", "Power"),
        "Status": _OK,
        "PowerSupplies": _link(f"{base}/PowerSupplies"),
    }


def _power_supplies(device: Hardware) -> Resource:
    return _collection(f"{V1}/Chassis/1/PowerSubsystem/PowerSupplies", "PowerSupply", _slots(device, "power"))


def _power_supply(device: Hardware, name: str) -> Resource | None:
    part = _named(device, name, "power")
    if part is None:
        return None
    base = f"{V1}/Chassis/1/PowerSubsystem/PowerSupplies/{name}"
    return {**_head(base, "PowerSupply", "v1_5_0", part.name), **_device_facts(device, part)}


def _device_facts(device: Hardware, part: Part) -> Resource:
    return {
        "Model": part.name,
        "PartNumber": part.number,
        "FirmwareVersion": device.shown_version(part),
        "Status": _OK,
    }


def _update_service(device: Hardware) -> Resource:
    service: Resource = {
        **_head(f"{V1}/UpdateService", "UpdateService", "v1_11_0", "Update service"),
        "ServiceEnabled": True,
        "Status": _OK,
        "FirmwareInventory": _link(f"{V1}/UpdateService/FirmwareInventory"),
        "SupportedUpdateImageFormats": ["PLDMv1_0", "PLDMv1_1", "PLDMv1_2", "PLDMv1_3"],
        "MaxImageSizeBytes": 64 * 1024 * 1024,
        "MultipartHttpPushUri": PUSH_URI,
        "VerifyRemoteServerCertificate": True,
        "Actions": {
            "#UpdateService.SimpleUpdate": {
                "target": UPDATE_ACTION,
                "TransferProtocol@Redfish.AllowableValues": PULL_PROTOCOLS.get(device.generation, []),
                "@Redfish.OperationApplyTimeSupport": {"SupportedValues": ["Immediate"]},
            }
        },
    }
    return service


def _inventory(device: Hardware) -> Resource:
    members = [part.slot for part in device.parts]
    members += [f"{part.slot}.standby" for part in device.parts if part.spare is not None]
    members += [f"{part.slot}.staged" for part in device.parts if part.waiting is not None]
    return _collection(f"{V1}/UpdateService/FirmwareInventory", "SoftwareInventory", members)


def _software(device: Hardware, name: str) -> Resource | None:
    slot, _, suffix = name.partition(".")
    part = device.part(slot)
    if part is None:
        return None
    version: str | None = device.shown_version(part)
    state = "Disabled" if part.dead else "Enabled"
    if suffix == "standby":
        version, state = part.spare, "StandbyOffline"
    elif suffix == "staged":
        version, state = part.waiting, "StandbySpare"
    if version is None or suffix not in ("", "standby", "staged"):
        return None
    return {
        **_head(f"{V1}/UpdateService/FirmwareInventory/{name}", "SoftwareInventory", "v1_10_0", part.name),
        "SoftwareId": part.software_id,
        "Version": version,
        "Updateable": part.updateable and not part.dead and suffix == "",
        "Status": {"State": state, "Health": "Critical" if part.dead else "OK"},
        "RelatedItem": [_link(_related(part))],
        "RelatedItem@odata.count": 1,
    }


def _related(part: Part) -> str:
    return {
        "bios": f"{V1}/Systems/1/Bios",
        "controller": f"{V1}/Managers/1",
        "raid": f"{V1}/Systems/1/Storage/1/Controllers/{part.slot}",
        "nic": f"{V1}/Chassis/1/NetworkAdapters/{part.slot}",
        "drive": f"{V1}/Systems/1/Storage/1/Drives/{part.slot}",
        "power": f"{V1}/Chassis/1/PowerSubsystem/PowerSupplies/{part.slot}",
    }.get(part.kind, f"{V1}/Chassis/1")


def _task_service(device: Hardware) -> Resource:
    return {
        **_head(f"{V1}/TaskService", "TaskService", "v1_2_0", "Tasks"),
        "ServiceEnabled": True,
        "DateTime": moment(device.now()),
        "Tasks": _link(f"{V1}/TaskService/Tasks"),
    }


def _tasks(device: Hardware) -> Resource:
    return _collection(f"{V1}/TaskService/Tasks", "Task", [task.id for task in device.tasks])


def _task(device: Hardware, name: str) -> Resource | None:
    task = next((task for task in device.tasks if task.id == name), None)
    return None if task is None else task_resource(task)


def task_resource(task: Task) -> Resource:
    """A task as Redfish shows it."""
    resource = {
        **_head(f"{V1}/TaskService/Tasks/{task.id}", "Task", "v1_7_0", "Update"),
        "TaskState": task.state,
        "TaskStatus": task.status,
        "PercentComplete": task.percent,
        "StartTime": moment(task.started),
        "TaskMonitor": f"{V1}/TaskMonitors/{task.id}",
        "Payload": task.payload,
        "Messages": [
            {
                "MessageId": name,
                "MessageArgs": args,
                "Message": f"{name.rsplit('.', 1)[1]}: {', '.join(args)}",
            }
            for name, args in task.messages
        ],
    }
    if task.ended is not None:
        resource["EndTime"] = moment(task.ended)
    return resource


def _of_kind(device: Hardware, *kinds: str) -> list[Part]:
    return [part for part in device.parts if part.kind in kinds]


def _slots(device: Hardware, kind: str) -> list[str]:
    return [part.slot for part in _of_kind(device, kind)]


def _named(device: Hardware, slot: str, kind: str) -> Part | None:
    part = device.part(slot)
    return part if part is not None and part.kind == kind else None


def _one(path: str, kind: str) -> Callable[[Hardware], Resource]:
    return lambda device: _collection(path, kind, ["1"])


_FIXED: dict[str, Callable[[Hardware], Resource]] = {
    V1: _root,
    f"{V1}/SessionService": _session_service,
    f"{V1}/SessionService/Sessions": _sessions,
    f"{V1}/Systems": _one(f"{V1}/Systems", "ComputerSystem"),
    f"{V1}/Systems/1": _system,
    f"{V1}/Systems/1/Bios": _bios,
    f"{V1}/Systems/1/Storage": _storage_collection,
    f"{V1}/Systems/1/Storage/1": _storage,
    f"{V1}/Systems/1/Storage/1/Controllers": _storage_controllers,
    f"{V1}/Managers": _one(f"{V1}/Managers", "Manager"),
    f"{V1}/Managers/1": _manager,
    f"{V1}/Chassis": _one(f"{V1}/Chassis", "Chassis"),
    f"{V1}/Chassis/1": _chassis,
    f"{V1}/Chassis/1/NetworkAdapters": _adapters,
    f"{V1}/Chassis/1/PCIeDevices": _pcie_devices,
    f"{V1}/Chassis/1/PowerSubsystem": _power_subsystem,
    f"{V1}/Chassis/1/PowerSubsystem/PowerSupplies": _power_supplies,
    f"{V1}/UpdateService": _update_service,
    f"{V1}/UpdateService/FirmwareInventory": _inventory,
    f"{V1}/TaskService": _task_service,
    f"{V1}/TaskService/Tasks": _tasks,
}
_MEMBERS: dict[str, Callable[[Hardware, str], Resource | None]] = {
    f"{V1}/SessionService/Sessions": _session,
    f"{V1}/Systems/1/Storage/1/Controllers": _storage_controller,
    f"{V1}/Systems/1/Storage/1/Drives": _drive,
    f"{V1}/Chassis/1/NetworkAdapters": _adapter,
    f"{V1}/Chassis/1/PCIeDevices": _pcie_device,
    f"{V1}/Chassis/1/PowerSubsystem/PowerSupplies": _power_supply,
    f"{V1}/UpdateService/FirmwareInventory": _software,
    f"{V1}/TaskService/Tasks": _task,
}


def find_nested(device: Hardware, path: str) -> Resource | None:
    """The PCIe functions, the one branch that nests below a member."""
    base = f"{V1}/Chassis/1/PCIeDevices/"
    if not path.startswith(base):
        return None
    match path.removeprefix(base).split("/"):
        case [slot, "PCIeFunctions"]:
            return _pcie_functions(device, slot)
        case [slot, "PCIeFunctions", "1"]:
            return _pcie_function(device, slot)
    return None
