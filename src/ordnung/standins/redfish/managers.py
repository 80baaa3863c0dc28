"""Managers: the management controller itself, its certificate, its licences."""

from __future__ import annotations

from ordnung.standins.hardware import Hardware, moment
from ordnung.standins.redfish.enclosure import around
from ordnung.standins.redfish.seen import parts_of
from ordnung.standins.redfish.systems import action_info, bank_links, media_link
from ordnung.standins.redfish.tree import OK, V1, Resource, collection, link, resource

MANAGER_RESET = f"{V1}/Managers/1/Actions/Manager.Reset"
REPLACE_CERTIFICATE = f"{V1}/CertificateService/Actions/CertificateService.ReplaceCertificate"
_HTTPS = f"{V1}/Managers/1/NetworkProtocol/HTTPS/Certificates"

HTTPS_CERTIFICATE = f"{_HTTPS}/1"


def _systems(device: Hardware) -> tuple[int, ...]:
    return (1,) if device.beside is None else (1, 2)


collection("Managers", "Manager")(lambda device: [*around(device), "1"])


@resource("Managers/1", "Manager", "v1_17_0", "Management controller")
def manager(device: Hardware) -> Resource:
    part = parts_of(device, "controller")[0]
    body: Resource = {
        "ManagerType": "BMC",
        "FirmwareVersion": device.shown_version(part),
        "UUID": device.uuid,
        "DateTime": moment(device.now() + device.skew),
        "DateTimeLocalOffset": "+00:00",
        "Status": OK,
        "NetworkProtocol": link(f"{V1}/Managers/1/NetworkProtocol"),
        "Links": {
            **bank_links(device, part),
            "ManagerForServers": [link(f"{V1}/Systems/{n}") for n in _systems(device)],
        },
        "Actions": {
            "#Manager.Reset": {
                "target": MANAGER_RESET,
                "ResetType@Redfish.AllowableValues": ["GracefulRestart", "ForceRestart"],
            }
        },
    }
    if "no restart offered" in device.quirks:
        del body["Actions"]
    body |= media_link(device, older=True)
    if device.generation == "newest":
        body["HostInterfaces"] = link(f"{V1}/Managers/1/HostInterfaces")
    body["LastResetTime"] = moment(device.controller_reset_at)
    return body


collection("Managers/1/HostInterfaces", "HostInterface")(
    lambda device: ["1"] if device.generation == "newest" else None
)


@resource("Managers/1/HostInterfaces/1", "HostInterface", "v1_3_0", "Inner link")
def host_interface(device: Hardware) -> Resource | None:
    if device.generation != "newest":
        return None
    return {
        "HostInterfaceType": "NetworkHostInterface",
        "InterfaceEnabled": True,
        "Status": OK,
        "CredentialBootstrapping": {"Enabled": "no user handed out" not in device.quirks, "EnableAfterReset": True},
    }


@resource("Managers/1/ResetActionInfo", "ActionInfo", "v1_4_0", "Reset")
def reset_info(device: Hardware) -> Resource | None:
    return action_info(device, ["GracefulRestart", "ForceRestart"])


@resource("Managers/1/NetworkProtocol", "ManagerNetworkProtocol", "v1_10_0", "Network protocols")
def network_protocol(device: Hardware) -> Resource:
    certificates = {"Certificates": link(_HTTPS)} if device.generation == "newest" else {}
    return {
        "HostName": f"{device.name}-bmc",
        "Status": OK,
        "HTTPS": {"ProtocolEnabled": True, "Port": 8443, **certificates},
        "HTTP": {"ProtocolEnabled": False, "Port": 80},
        "SSDP": {"ProtocolEnabled": True, "Port": 1900},
    }


collection("Managers/1/NetworkProtocol/HTTPS/Certificates", "Certificate")(
    lambda device: ["1"] if device.generation == "newest" and device.certificate else None
)


@resource("Managers/1/NetworkProtocol/HTTPS/Certificates/1", "Certificate", "v1_8_0", "HTTPS certificate")
def certificate(device: Hardware) -> Resource | None:
    if device.generation != "newest" or not device.certificate:
        return None
    pem, before, after = device.certificate
    return {"CertificateString": pem, "CertificateType": "PEM", "ValidNotBefore": before, "ValidNotAfter": after}


@resource("CertificateService", "CertificateService", "v1_0_4", "Certificates")
def certificate_service(device: Hardware) -> Resource | None:
    if device.generation != "newest":
        return None
    return {
        "CertificateLocations": link(f"{V1}/CertificateService/CertificateLocations"),
        "Actions": {"#CertificateService.ReplaceCertificate": {"target": REPLACE_CERTIFICATE}},
    }


@resource("CertificateService/CertificateLocations", "CertificateLocations", "v1_0_3", "Where certificates are")
def certificate_locations(device: Hardware) -> Resource | None:
    if device.generation != "newest":
        return None
    places = [link(f"{_HTTPS}/1")] if device.certificate else []
    return {"Links": {"Certificates": places, "Certificates@odata.count": len(places)}}


@resource("LicenseService", "LicenseService", "v1_1_0", "Licences")
def licence_service(device: Hardware) -> Resource | None:
    if device.generation == "oldest":
        return None
    return {"ServiceEnabled": True, "Licenses": link(f"{V1}/LicenseService/Licenses")}


collection("LicenseService/Licenses", "License")(lambda device: None if device.generation == "oldest" else ["delivery"])


@resource("LicenseService/Licenses/delivery", "License", "v1_1_0", "Remote firmware delivery")
def licence(device: Hardware) -> Resource | None:
    if device.generation == "oldest":
        return None
    missing = device.has_fault("licence missing")
    return {
        "EntitlementId": f"LTF-{device.serial}",
        "LicenseType": "Production",
        "AuthorizationScope": "Device",
        "Status": {"State": "Disabled" if missing else "Enabled", "Health": "Warning" if missing else "OK"},
        "Links": {"AuthorizedDevices": [link(f"{V1}/Managers/1")]},
    }
