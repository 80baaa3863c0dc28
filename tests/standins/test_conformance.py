"""Both faces of a stand-in against DSP0266: what every conforming service does and is easily forgotten.

One suite for the in-process and the HTTPS face and for every generation.
"""

from __future__ import annotations

import re
import socket
import ssl
import urllib.error
import xml.etree.ElementTree
from base64 import b64encode

import pytest
from cryptography import x509

from ordnung.standins.certificates import open_authority
from ordnung.standins.faults import Fault
from ordnung.standins.redfish.registries import REGISTRIES
from ordnung.standins.resets import reboot
from ordnung.standins.scenario import PLACES
from tests.conftest import live_floor
from tests.journeys.site import wait_until
from tests.standins.faces import BASIC, FACES, LISTENED, Https, crawl

GENERATIONS = {"newest": "surge-02", "middle": "gauge-01", "oldest": "sump-01"}
CHOSEN = [place for place in PLACES if place.name in (*GENERATIONS.values(), "vault-01")]
SYSTEM, SESSIONS = "/redfish/v1/Systems/1", "/redfish/v1/SessionService/Sessions"
ACCOUNTS = "/redfish/v1/AccountService/Accounts"


@pytest.fixture(scope="module")
def floor(tmp_path_factory):
    with live_floor(tmp_path_factory.mktemp("standins"), places=CHOSEN) as found:
        yield found


@pytest.fixture(params=FACES)
def face(request, floor):
    """The newest generation through one of the faces, put back afterwards."""
    found = FACES[request.param](floor, "surge-02")
    device, tag = found.device, found.device.asset_tag
    yield found
    device.asset_tag = tag
    device.patched.clear(), device.subscriptions.clear(), device.sessions.clear(), device.faults.clear()
    for number in [n for n in device.accounts if n != "1"]:
        del device.accounts[number]


@pytest.fixture
def ask(face):
    return face.ask


def ids(body) -> list[str]:
    """The message keys of an error or an annotation, checked against the registries."""
    infos = body.get("error", body)["@Message.ExtendedInfo"]
    keys = []
    for info in infos:
        registry, major, minor, key = info["MessageId"].split(".")
        assert key in REGISTRIES[registry].messages
        assert REGISTRIES[registry].version.startswith(f"{major}.{minor}.")
        assert "%" not in info["Message"], "every argument is filled in"
        keys.append(key)
    return keys


# What is open, and who may


def test_root_and_metadata_are_open_and_nothing_else_is(ask):
    assert ask("GET", "/redfish")[2] == {"v1": "/redfish/v1/"}
    for path in ("/redfish/v1", "/redfish/v1/", "/redfish/v1/odata", "/redfish/v1/$metadata"):
        assert ask("GET", path)[0] == 200, path
    for method, path in (("GET", SYSTEM), ("GET", "/redfish/v1/Nothing"), ("PATCH", SYSTEM), ("DELETE", "/redfish/v1")):
        status, headers, body = ask(method, path, {} if method == "PATCH" else None)
        assert status == 401 and "www-authenticate" in headers, (method, path)
        assert ids(body) == ["NoValidSession"]


def test_what_a_stranger_asks_to_change_stays_as_it_is(ask, face):
    """The test before this one sent nothing that could have been changed."""
    face.device.asset_tag = "ours"
    assert ask("PATCH", SYSTEM, {"AssetTag": "theirs", "Boot": {"BootSourceOverrideEnabled": "Once"}})[0] == 401
    assert ask("POST", f"{SYSTEM}/Actions/ComputerSystem.Reset", {"ResetType": "ForceRestart"})[0] == 401
    body = ask("GET", SYSTEM, Authorization=BASIC)[2]
    assert (body["AssetTag"], body["Boot"]["BootSourceOverrideEnabled"]) == ("ours", "Disabled")
    assert "reset" not in [entry["what"] for entry in face.device.log]


def test_the_odata_document_lists_what_the_root_links(ask):
    body = ask("GET", "/redfish/v1/odata")[2]
    assert body["@odata.context"] == "/redfish/v1/$metadata"
    for entry in body["value"]:
        assert ask("GET", entry["url"], Authorization=BASIC)[0] == 200, entry


def test_metadata_refers_to_every_type_in_use(ask):
    status, headers, raw = ask("GET", "/redfish/v1/$metadata")
    assert headers["content-type"].startswith("application/xml")
    tree = xml.etree.ElementTree.fromstring(raw)
    spaces = {node.get("Namespace") for node in tree.iter() if node.tag.endswith("}Include")}
    for path, found in crawl(ask).items():
        kind = found["body"]["@odata.type"].lstrip("#").rpartition(".")[0]
        assert kind in spaces, path


def test_sessions_and_basic_both_sign_in_and_tokens_differ(ask):
    good = {"UserName": "ordnung", "Password": "kelp-and-slate"}
    tokens = set()
    for path in (SESSIONS, f"{SESSIONS}/Members"):
        status, headers, body = ask("POST", path, good)
        assert status == 201 and body["UserName"] == "ordnung" and body["Password"] is None
        tokens.add(headers["x-auth-token"])
        assert ask("GET", SYSTEM, X_Auth_Token=headers["x-auth-token"])[0] == 200
        assert ask("DELETE", headers["location"], X_Auth_Token=headers["x-auth-token"])[0] == 204
        assert ask("GET", SYSTEM, X_Auth_Token=headers["x-auth-token"])[0] == 401
    assert len(tokens) == 2
    status, headers, _ = ask("POST", SESSIONS, {**good, "Password": "no"})
    assert status == 401 and "location" not in headers
    assert ids(ask("POST", SESSIONS, {"UserName": "ordnung"})[2]) == ["PropertyMissing"]
    assert ids(ask("POST", SESSIONS, b"{half")[2]) == ["MalformedJSON"]


@pytest.mark.parametrize("header", ["Basic", "Basic !!", "Bearer x", "Basic b3JkbnVuZzp3cm9uZw=="])
def test_odd_credentials_are_refused(ask, header):
    assert ask("GET", SYSTEM, Authorization=header)[0] == 401


def sign_in_as(ask, role):
    made = ask(
        "POST", ACCOUNTS, {"UserName": role.lower(), "Password": "long enough", "RoleId": role}, Authorization=BASIC
    )
    assert made[0] == 201 and made[1]["location"].startswith(f"{ACCOUNTS}/")
    return made[1]["location"], "Basic " + b64encode(f"{role.lower()}:long enough".encode()).decode()


def test_roles_may_what_their_privileges_say(ask):
    reset = {"ResetType": "Nonsense"}  # gets past the privileges, not past the check
    where, operator = sign_in_as(ask, "Operator")
    looker_at, looker = sign_in_as(ask, "ReadOnly")
    assert ask("POST", f"{SYSTEM}/Actions/ComputerSystem.Reset", reset, Authorization=looker)[0] == 403
    assert ask("POST", f"{SYSTEM}/Actions/ComputerSystem.Reset", reset, Authorization=operator)[0] == 400
    assert ask("POST", "/redfish/v1/Managers/1/Actions/Manager.Reset", reset, Authorization=operator)[0] == 403
    assert ask("PATCH", SYSTEM, {"AssetTag": "x"}, Authorization=looker)[0] == 403
    assert ask("PATCH", where, {"Password": "another one"}, Authorization=looker)[0] == 403, "not someone else's"
    assert ask("PATCH", looker_at, {"RoleId": "Administrator"}, Authorization=looker)[0] == 403
    assert ask("PATCH", looker_at, {"Password": "another one"}, Authorization=looker)[0] == 200, "one's own"
    assert ask("GET", SYSTEM, Authorization=looker)[0] == 401, "the old password is over"
    assert ask("DELETE", where, Authorization=BASIC)[0] == 204
    assert ask("DELETE", f"{ACCOUNTS}/1", Authorization=BASIC)[0] == 403, "the last administrator stays"


def test_no_secret_is_ever_told(ask):
    where, _ = sign_in_as(ask, "Operator")
    raw = str(ask("PATCH", where, {"Password": "short"}, Authorization=BASIC))
    assert "short" not in raw and ids(ask("PATCH", where, {"Password": "short"}, Authorization=BASIC)[2])
    for found in crawl(ask).values():
        assert "kelp-and-slate" not in str(found["body"]) and "long enough" not in str(found["body"])


# Every resource


@pytest.mark.parametrize("generation", GENERATIONS)
@pytest.mark.parametrize("kind", FACES)
def test_the_whole_tree_keeps_the_rules(floor, kind, generation):
    ask = FACES[kind](floor, GENERATIONS[generation]).ask
    tree = crawl(ask)
    assert len(tree) > 60
    for path, found in tree.items():
        body, headers = found["body"], found["headers"]
        assert body["@odata.id"].rstrip("/") == path and body["Name"] and body["@odata.type"].startswith("#")
        assert headers["odata-version"] == "4.0" and headers["cache-control"]
        assert headers["content-type"] == "application/json; charset=utf-8"
        assert body["@odata.type"].lstrip("#").rpartition(".")[0] in headers["link"]
        assert re.fullmatch(r"GET, HEAD(, (POST|PATCH|DELETE))*", headers["allow"])
        if "Members" in body:
            assert body["Members@odata.count"] == len(body["Members"])
        else:
            assert body["Id"]
        if "@odata.etag" in body:
            assert body["@odata.etag"] == headers["etag"]
        for key in [k for k in body if k.endswith("@odata.count")]:
            assert body[key] == len(body[key.split("@")[0]])


def test_every_type_has_a_schema_and_every_registry_can_be_read(ask):
    tree = crawl(ask)
    schemas = {body["Schema"] for path, found in tree.items() if "Schema" in (body := found["body"])}
    for path, found in tree.items():
        if "Members" not in found["body"]:
            assert found["body"]["@odata.type"] in schemas, path
    for path in [p for p in tree if re.fullmatch(r"/redfish/v1/Registries/\w+", p)]:
        uri = tree[path]["body"]["Location"][0]["Uri"]
        registry = ask("GET", uri, Authorization=BASIC)[2]
        assert registry["Messages"] and registry["RegistryPrefix"] == path.rsplit("/", 1)[-1]


def test_head_is_get_without_a_body(ask):
    for path in (SYSTEM, "/redfish/v1/Chassis", "/redfish/v1"):
        got, headed = ask("GET", path, Authorization=BASIC), ask("HEAD", path, Authorization=BASIC)
        assert headed[0] == got[0] == 200 and not headed[2]
        assert {k: headed[1].get(k) for k in LISTENED} == {k: got[1].get(k) for k in LISTENED}
    assert ask("HEAD", "/redfish/v1/Nothing", Authorization=BASIC)[0] == 404


@pytest.mark.parametrize("slash", ["", "/"])
def test_a_trailing_slash_changes_nothing(ask, slash):
    assert ask("GET", SYSTEM + slash, Authorization=BASIC)[2]["@odata.id"] == SYSTEM


# Headers and queries


def test_version_and_method_are_judged(ask):
    assert ask("GET", SYSTEM, Authorization=BASIC, OData_Version="4.1")[0] == 412
    assert ask("GET", SYSTEM, Authorization=BASIC, OData_Version="4.0")[0] == 200
    assert ask("GET", SYSTEM, Authorization=BASIC, Accept="application/json; charset=utf-8")[0] == 200
    for method, path in (("DELETE", SYSTEM), ("POST", SYSTEM), ("PUT", SYSTEM), ("PATCH", "/redfish/v1/Chassis")):
        status, headers, body = ask(method, path, None if method == "DELETE" else {}, Authorization=BASIC)
        assert status == 405 and "GET" in headers["allow"] and method not in headers["allow"], (method, path)
        assert ids(body) == ["OperationNotAllowed"]
    assert ask("PATCH", "/redfish/v1/Nothing", {}, Authorization=BASIC)[0] == 404


def test_a_method_that_nobody_knows_is_not_implemented(ask):
    for method in ("PROPFIND", "TRACE", "BREW"):
        status, _, body = ask(method, SYSTEM, None, Authorization=BASIC)
        assert status in (405, 501) and ids(body), method


def test_a_patch_of_annotations_alone_changes_nothing_and_says_so(ask):
    status, _, body = ask("PATCH", SYSTEM, {"@odata.id": SYSTEM, "Boot@odata.count": 1}, Authorization=BASIC)
    assert status == 200 and ids(body) == ["NoOperation"] and body["@odata.id"] == SYSTEM


def test_queries(ask):
    def get(query, path="/redfish/v1/UpdateService/FirmwareInventory"):
        return ask("GET", f"{path}?{query}", Authorization=BASIC)

    whole = get("x=1")[2]
    assert get("$skip=2&$top=3")[2]["Members"] == whole["Members"][2:5]
    assert get("$skip=2&$top=3")[2]["Members@odata.count"] == len(whole["Members"])
    assert get("$top=0")[2]["Members"] == []
    first = get("$expand=.")[2]["Members"][0]
    assert first["SoftwareId"] == "CRV-R14-BIOS" and first["RelatedItem"] == [
        {"@odata.id": "/redfish/v1/Systems/1/Bios"}
    ]
    assert set(get("$select=Model,Status", SYSTEM)[2]) == {"@odata.id", "@odata.etag", "@odata.type", "Model", "Status"}
    deep = get("$expand=.($levels=3)", "/redfish/v1/Systems")[2]
    assert deep["Members"][0]["Storage"]["Members"][0]["Drives"][0] == {
        "@odata.id": "/redfish/v1/Systems/1/Storage/1/Drives/drive-00"
    }
    linked = get("$expand=~", SYSTEM)[2]
    assert linked["Links"]["Chassis"][0]["ChassisType"] == "RackMount" and set(linked["Storage"]) == {"@odata.id"}
    for query, status in (("$odd=1", 501), ("$filter=Id eq '1'", 501), ("$top=x", 400), ("$top=-1", 400), ("$expand=all", 400), ("$expand=.($levels=9)", 400)):  # fmt: skip
        assert get(query)[0] == status, query


@pytest.mark.parametrize("kind", FACES)
def test_older_generations_offer_no_queries(floor, kind):
    ask = FACES[kind](floor, GENERATIONS["middle"]).ask
    assert ask("GET", "/redfish/v1/Systems?$expand=.", Authorization=BASIC)[0] == 501
    assert ask("GET", "/redfish/v1/Systems?odd=1", Authorization=BASIC)[0] == 200


def test_etags_hold_until_something_changes_and_guard_changes(ask):
    tag = ask("GET", SYSTEM, Authorization=BASIC)[1]["etag"]
    assert ask("GET", SYSTEM, Authorization=BASIC)[1]["etag"] == tag
    assert ask("GET", SYSTEM, Authorization=BASIC, If_None_Match=tag)[0] == 304
    assert ask("PATCH", SYSTEM, {"AssetTag": "one"}, Authorization=BASIC, If_Match='"other"')[0] == 412
    status, headers, body = ask("PATCH", SYSTEM, {"AssetTag": "one"}, Authorization=BASIC, If_Match=tag)
    assert status == 200 and body["AssetTag"] == "one" and headers["etag"] != tag
    assert ask("PATCH", SYSTEM, {"AssetTag": "two"}, Authorization=BASIC, If_Match=tag)[0] == 412
    assert ask("GET", SYSTEM, Authorization=BASIC, If_None_Match=tag)[0] == 200


# Changing


def test_a_patch_does_what_it_can_and_says_what_it_cannot(ask):
    status, _, body = ask("PATCH", SYSTEM, {"AssetTag": "x", "Odd": 1, "Model": "y"}, Authorization=BASIC)
    assert status == 200 and body["AssetTag"] == "x" and body["Model"] != "y"
    assert ids(body) == ["PropertyUnknown", "PropertyNotWritable"]
    status, _, body = ask("PATCH", SYSTEM, {"Odd": 1}, Authorization=BASIC)
    assert status == 400 and ids(body) == ["PropertyUnknown"]
    assert ask("PATCH", SYSTEM, {}, Authorization=BASIC)[0] == 400
    assert ask("PATCH", SYSTEM, b"[1]", Authorization=BASIC)[0] == 400


def test_boot_override_lasts_for_one_start(ask, face):
    once = {"Boot": {"BootSourceOverrideEnabled": "Once", "BootSourceOverrideTarget": "Cd"}}
    boot = ask("PATCH", SYSTEM, once, Authorization=BASIC)[2]["Boot"]
    assert boot["BootSourceOverrideTarget"] == "Cd" and boot["BootSourceOverrideMode"] == "UEFI"
    bad = ask("PATCH", SYSTEM, {"Boot": {"BootSourceOverrideTarget": "Toaster"}}, Authorization=BASIC)
    assert bad[0] == 400 and ids(bad[2]) == ["PropertyValueNotInList"]
    reboot(face.device)
    boot = ask("GET", SYSTEM, Authorization=BASIC)[2]["Boot"]
    assert (boot["BootSourceOverrideEnabled"], boot["BootSourceOverrideTarget"]) == ("Disabled", "None")


def test_virtual_media_is_inserted_once_and_ejected(ask):
    base = f"{SYSTEM}/VirtualMedia/CD1"
    insert, eject = f"{base}/Actions/VirtualMedia.InsertMedia", f"{base}/Actions/VirtualMedia.EjectMedia"
    assert ids(ask("POST", insert, {}, Authorization=BASIC)[2]) == ["ActionParameterMissing"]
    assert ask("POST", insert, {"Image": "https://127.0.0.1/kit.iso"}, Authorization=BASIC)[0] == 204
    assert ask("GET", base, Authorization=BASIC)[2]["ImageName"] == "kit.iso"
    assert ask("POST", insert, {"Image": "https://127.0.0.1/other.iso"}, Authorization=BASIC)[0] == 409
    assert ask("POST", eject, {}, Authorization=BASIC)[0] == 204
    assert ask("GET", base, Authorization=BASIC)[2]["Inserted"] is False


def test_subscriptions_come_and_go(ask, face):
    where = "/redfish/v1/EventService/Subscriptions"
    status, headers, body = ask("POST", where, {"Destination": "nonsense", "Protocol": "Redfish"}, Authorization=BASIC)
    assert status == 400 and "location" not in headers and ids(body) == ["PropertyValueNotInList"]
    asked = {"Destination": "https://127.0.0.1:1/in", "Protocol": "Redfish", "Context": "us"}
    status, headers, body = ask("POST", where, asked, Authorization=BASIC)
    assert status == 201 and body["Context"] == "us"
    changed = ask("PATCH", headers["location"], {"Context": "them"}, Authorization=BASIC)[2]
    assert changed["Context"] == "them"
    events = len(face.device.events)
    test = "/redfish/v1/EventService/Actions/EventService.SubmitTestEvent"
    assert ask("POST", test, {}, Authorization=BASIC)[0] == 204 and len(face.device.events) == events + 1
    assert ask("DELETE", headers["location"], Authorization=BASIC)[0] == 204
    assert ask("GET", headers["location"], Authorization=BASIC)[0] == 404


@pytest.mark.parametrize("body", [{}, {"ImageURI": "ftp://x/y"}, {"ImageURI": "https://x/y", "Targets": ["/nothing"]}])
def test_bad_orders_are_refused_and_change_nothing(ask, face, body):
    before = len(face.device.log)
    update = "/redfish/v1/UpdateService/Actions/UpdateService.SimpleUpdate"
    status, headers, told = ask("POST", update, body, Authorization=BASIC)
    # What an earlier test began may end meanwhile, and the log says so: a reset, an event that arrives nowhere.
    done = {entry["what"] for entry in face.device.log[before:]} - {"system up", "event sent", "event lost"}
    assert status == 400 and ids(told) and "location" not in headers and not done


def test_a_busy_service_says_for_how_long(ask, face):
    face.device.faults.append(Fault("busy", seconds=7))
    status, headers, body = ask("GET", SYSTEM, Authorization=BASIC)
    assert status == 503 and headers["retry-after"] == "7" and ids(body) == ["ServiceTemporarilyUnavailable"]
    assert ask("GET", SYSTEM, Authorization=BASIC)[0] == 200


def test_both_faces_say_the_same(floor):
    """Byte for byte, header for header, for the whole tree."""
    one, other = crawl(FACES["in process"](floor, "vault-01").ask), crawl(Https(floor, "vault-01").ask)
    assert one.keys() == other.keys()
    moving = {"DateTime", "PercentComplete"}
    for path, found in one.items():
        same = {k: v for k, v in found["body"].items() if k not in moving}
        assert same == {k: v for k, v in other[path]["body"].items() if k not in moving}, path
        for name in LISTENED:
            assert found["headers"].get(name) == other[path]["headers"].get(name), (path, name)


# The wire


def test_certificates_are_x509_v3_and_the_resource_tells_the_one_in_use(floor):
    address = floor.floor.urls["surge-02"].removeprefix("https://").split(":")
    shown = x509.load_pem_x509_certificate(ssl.get_server_certificate((address[0], int(address[1]))).encode())
    assert shown.version is x509.Version.v3
    ask = Https(floor, "surge-02").ask
    told = ask("GET", "/redfish/v1/CertificateService/CertificateLocations", Authorization=BASIC)[2]
    where = told["Links"]["Certificates"][0]["@odata.id"]
    pem = ask("GET", where, Authorization=BASIC)[2]["CertificateString"]
    assert x509.load_pem_x509_certificate(pem.encode()) == shown


REPLACE = "/redfish/v1/CertificateService/Actions/CertificateService.ReplaceCertificate"


def test_the_https_certificate_can_be_replaced(live, tmp_path):
    ask = Https(live, "surge-02").ask
    told = ask("GET", "/redfish/v1/CertificateService", Authorization=BASIC)[2]
    assert told["Actions"]["#CertificateService.ReplaceCertificate"]["target"] == REPLACE
    host, port = live.floor.urls["surge-02"].removeprefix("https://").split(":")
    where = {"@odata.id": "/redfish/v1/Managers/1/NetworkProtocol/HTTPS/Certificates/1"}
    fresh = open_authority(tmp_path / "ca").issue(host, "fresh").read_text()
    body = {"CertificateString": fresh, "CertificateType": "PEM", "CertificateUri": where}
    for wrong in (
        {},
        {**body, "CertificateType": "DER"},
        {**body, "CertificateUri": "x"},
        {**body, "CertificateString": "x"},
    ):
        assert ask("POST", REPLACE, wrong, Authorization=BASIC)[0] == 400
    assert ask("POST", REPLACE, body, Authorization=BASIC)[0] == 204
    wanted = x509.load_pem_x509_certificate(fresh.encode())

    def shows_it():
        return x509.load_pem_x509_certificate(ssl.get_server_certificate((host, int(port))).encode()) == wanted

    wait_until(shows_it, "the new certificate", 10)


def test_events_are_streamed_and_the_subscription_ends_with_the_line(floor):
    face = Https(floor, "surge-02")
    host, port = face.url.removeprefix("https://").split(":")
    line = face.context.wrap_socket(socket.create_connection((host, int(port)), 10), server_hostname=host)
    line.sendall(
        f"GET /redfish/v1/EventService/SSE HTTP/1.1\r\nHost: {host}\r\nAuthorization: {BASIC}\r\n\r\n".encode()
    )
    told = line.recv(65536).decode()
    assert "text/event-stream" in told
    wait_until(lambda: len(face.device.subscriptions) == 1, "the stream's subscription", 10)
    test = "/redfish/v1/EventService/Actions/EventService.SubmitTestEvent"
    assert face.ask("POST", test, {}, Authorization=BASIC)[0] == 204
    while "ResourceEvent.1.3.TestMessage" not in told:
        told += line.recv(65536).decode()
    assert "id: " in told and "data: {" in told
    line.close()
    wait_until(lambda: not face.device.subscriptions, "the end of the subscription", 10)


def test_a_restart_kills_the_connection_and_comes_back(live):
    ask = Https(live, "surge-02").ask
    reset = "/redfish/v1/Managers/1/Actions/Manager.Reset"
    assert ask("POST", reset, {"ResetType": "GracefulRestart"}, Authorization=BASIC)[0] == 204
    with pytest.raises((urllib.error.URLError, ConnectionError)):
        ask("GET", "/redfish/v1")
    live.call(setattr, live.device("surge-02"), "away_until", 0.0)
    assert ask("GET", "/redfish/v1")[0] == 200
