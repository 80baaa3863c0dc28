"""The root, sessions, accounts and roles, events, registries and schemas: what serves the service itself."""

from __future__ import annotations

from ordnung.standins.hardware import Hardware
from ordnung.standins.parts import PRIVILEGES
from ordnung.standins.redfish.registries import REGISTRIES, registry_body
from ordnung.standins.redfish.tree import OK, SCHEMAS, V1, Resource, collection, link, resource

TEST_EVENT = f"{V1}/EventService/Actions/EventService.SubmitTestEvent"
SSE = f"{V1}/EventService/SSE"
MAX_LEVELS = 5
_VERSIONS = {"newest": "1.18.0", "middle": "1.6.0", "oldest": "1.2.0"}


@resource("", "ServiceRoot", "v1_15_0", "Root service")
def root(device: Hardware) -> Resource:
    links = {
        "Systems": "Systems", "Chassis": "Chassis", "Managers": "Managers", "UpdateService": "UpdateService",
        "Tasks": "TaskService", "SessionService": "SessionService", "AccountService": "AccountService",
        "Registries": "Registries", "JsonSchemas": "JsonSchemas", "EventService": "EventService",
    }  # fmt: skip
    if device.generation == "newest":
        links["CertificateService"] = "CertificateService"
    if device.generation != "oldest":
        links["LicenseService"] = "LicenseService"
    if device.beside is None and {"jobs instead of tasks", "becomes a job"} & device.quirks:
        links["JobService"] = "JobService"
    body: Resource = {
        "RedfishVersion": _VERSIONS[device.generation],
        "UUID": device.uuid,
        **{name: link(f"{V1}/{path}") for name, path in links.items()},
        "Links": {"Sessions": link(f"{V1}/SessionService/Sessions")},
    }
    if device.generation != "oldest":
        can = device.generation == "newest"
        body["ProtocolFeaturesSupported"] = {
            "ExpandQuery": {"ExpandAll": can, "Levels": can, "Links": can, "NoLinks": can}
            | ({"MaxLevels": MAX_LEVELS} if can else {}),
            "SelectQuery": can,
            "TopSkipQuery": can,
            "FilterQuery": False,
            "OnlyMemberQuery": False,
            "ExcerptQuery": False,
        }
    return body


@resource("SessionService", "SessionService", "v1_1_9", "Session service")
def session_service(device: Hardware) -> Resource:
    sessions = link(f"{V1}/SessionService/Sessions")
    return {"ServiceEnabled": True, "SessionTimeout": 1800, "Status": OK, "Sessions": sessions}


collection("SessionService/Sessions", "Session")(lambda device: [one.number for one in device.sessions.values()])


@resource("SessionService/Sessions/{number}", "Session", "v1_7_0", "Session")
def session(device: Hardware, number: str) -> Resource | None:
    found = next((one for one in device.sessions.values() if one.number == number), None)
    if found is None:
        return None
    return {"UserName": device.accounts[found.account].user, "Password": None, "Context": found.context or None}


@resource("AccountService", "AccountService", "v1_15_0", "Accounts")
def account_service(device: Hardware) -> Resource:
    return {
        "ServiceEnabled": True,
        "Status": OK,
        "MinPasswordLength": 8,
        "Accounts": link(f"{V1}/AccountService/Accounts"),
        "Roles": link(f"{V1}/AccountService/Roles"),
    }


collection("AccountService/Accounts", "ManagerAccount")(lambda device: list(device.accounts))


@resource("AccountService/Accounts/{number}", "ManagerAccount", "v1_12_0", "Account")
def account(device: Hardware, number: str) -> Resource | None:
    found = device.accounts.get(number)
    if found is None:
        return None
    return {
        "UserName": found.user,
        "Password": None,
        "RoleId": found.role,
        "Enabled": found.enabled,
        "Locked": found.locked,
        "PasswordChangeRequired": found.change_required,
        "AccountTypes": ["Redfish"],
        "Links": {"Role": link(f"{V1}/AccountService/Roles/{found.role}")},
    }


collection("AccountService/Roles", "Role")(lambda device: list(PRIVILEGES))


@resource("AccountService/Roles/{name}", "Role", "v1_3_1")
def role(device: Hardware, name: str) -> Resource | None:
    if name not in PRIVILEGES:
        return None
    return {"Name": name, "RoleId": name, "IsPredefined": True, "AssignedPrivileges": sorted(PRIVILEGES[name])}


@resource("EventService", "EventService", "v1_10_0", "Events")
def event_service(device: Hardware) -> Resource:
    return {
        "ServiceEnabled": True,
        "Status": OK,
        "DeliveryRetryAttempts": 1,
        "DeliveryRetryIntervalSeconds": 30,
        "EventFormatTypes": ["Event"],
        "ServerSentEventUri": SSE,
        "SSEFilterPropertiesSupported": {"EventFormatType": True, "MessageId": False, "RegistryPrefix": False},
        "Subscriptions": link(f"{V1}/EventService/Subscriptions"),
        "Actions": {"#EventService.SubmitTestEvent": {"target": TEST_EVENT}},
    }


collection("EventService/Subscriptions", "EventDestination")(lambda device: list(device.subscriptions))


@resource("EventService/Subscriptions/{number}", "EventDestination", "v1_13_0", "Subscription")
def subscription(device: Hardware, number: str) -> Resource | None:
    found = device.subscriptions.get(number)
    return None if found is None else dict(found)


collection("Registries", "MessageRegistryFile")(lambda device: list(REGISTRIES))


@resource("Registries/{name}", "MessageRegistryFile", "v1_1_3")
def registry_file(device: Hardware, name: str) -> Resource | None:
    found = REGISTRIES.get(name)
    if found is None:
        return None
    uri = f"{V1}/RegistryStore/{name}.{found.version}.json"
    return {
        "Name": f"{name} messages",
        "Registry": f"{name}.{'.'.join(found.version.split('.')[:2])}",
        "Languages": ["en"],
        "Location": [{"Language": "en", "Uri": uri}],
    }


@resource("RegistryStore/{name}", "MessageRegistry", "v1_6_2")
def registry(device: Hardware, name: str) -> Resource | None:
    found = next((p for p, r in REGISTRIES.items() if name == f"{p}.{r.version}.json"), None)
    return None if found is None else registry_body(found)


collection("JsonSchemas", "JsonSchemaFile")(lambda device: sorted(SCHEMAS))


@resource("JsonSchemas/{kind}", "JsonSchemaFile", "v1_1_4")
def schema_file(device: Hardware, kind: str) -> Resource | None:
    version = SCHEMAS.get(kind)
    if version is None:
        return None
    uri = f"http://redfish.dmtf.org/schemas/v1/{kind}.{version}.json"
    return {
        "Name": f"{kind} schema",
        "Schema": f"#{kind}.{version}.{kind}",
        "Languages": ["en"],
        "Location": [{"Language": "en", "PublicationUri": uri}],
    }
