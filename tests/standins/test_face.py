"""The HTTPS face against DSP0266: what every conforming service does and is easily forgotten."""

from __future__ import annotations

import json
import ssl
import urllib.error
import urllib.request
from base64 import b64encode

import pytest

BASIC = "Basic " + b64encode(b"ordnung:kelp-and-slate").decode()


@pytest.fixture
def ask(live):
    context = ssl.create_default_context(cafile=live.ca)

    def ask(method, path, body=None, **headers):
        url = live.floor.urls["surge-02"] + path
        data = json.dumps(body).encode() if body is not None else None
        request = urllib.request.Request(url, data, {k.replace("_", "-"): v for k, v in headers.items()}, method=method)
        try:
            with urllib.request.urlopen(request, context=context) as answer:
                raw = answer.read()
                return answer.status, dict(answer.headers), json.loads(raw) if raw[:1] == b"{" else raw
        except urllib.error.HTTPError as error:
            raw = error.read()
            return error.code, dict(error.headers), json.loads(raw) if raw else {}

    return ask


def test_the_root_is_open_and_the_rest_is_not(ask):
    assert ask("GET", "/redfish")[2] == {"v1": "/redfish/v1/"}
    for path in ("/redfish/v1", "/redfish/v1/", "/redfish/v1/odata", "/redfish/v1/$metadata"):
        assert ask("GET", path)[0] == 200
    status, headers, body = ask("GET", "/redfish/v1/Systems/1")
    assert status == 401 and "WWW-Authenticate" in headers
    assert body["error"]["@Message.ExtendedInfo"][0]["MessageId"].startswith("Base.1.")


def test_sessions_and_basic_both_sign_in(ask):
    status, headers, _ = ask(
        "POST", "/redfish/v1/SessionService/Sessions", {"UserName": "ordnung", "Password": "kelp-and-slate"}
    )
    assert status == 201
    token, where = headers["X-Auth-Token"], headers["Location"]
    assert ask("GET", "/redfish/v1/Systems/1", X_Auth_Token=token)[0] == 200
    assert ask("GET", "/redfish/v1/Systems/1", Authorization=BASIC)[0] == 200
    assert ask("DELETE", where, X_Auth_Token=token)[0] == 204
    assert ask("GET", "/redfish/v1/Systems/1", X_Auth_Token=token)[0] == 401
    status, headers, _ = ask("POST", "/redfish/v1/SessionService/Sessions", {"UserName": "ordnung", "Password": "no"})
    assert status == 401 and "Location" not in headers


def test_headers_and_refusals(ask):
    status, headers, body = ask("GET", "/redfish/v1/Systems/1", Authorization=BASIC)
    assert headers["OData-Version"] == "4.0" and "describedby" in headers["Link"] and headers["Allow"] == "GET, HEAD"
    assert body["@odata.id"] == "/redfish/v1/Systems/1" and headers["ETag"]
    assert ask("GET", "/redfish/v1/Systems/1", Authorization=BASIC, If_None_Match=headers["ETag"])[0] == 304
    assert ask("GET", "/redfish/v1/Systems/1", Authorization=BASIC, OData_Version="4.1")[0] == 412
    assert ask("GET", "/redfish/v1/Systems?$expand=.", Authorization=BASIC)[0] == 501
    assert ask("GET", "/redfish/v1/Systems?odd=1", Authorization=BASIC)[0] == 200
    assert ask("GET", "/redfish/v1/Nothing", Authorization=BASIC)[0] == 404
    status, headers, _ = ask("DELETE", "/redfish/v1/Systems/1", Authorization=BASIC)
    assert status == 405 and headers["Allow"] == "GET, HEAD"


def test_every_link_leads_somewhere(ask):
    """Walk the whole tree: each @odata.id answers, each collection counts right."""
    seen, todo = set(), ["/redfish/v1"]
    while todo:
        path = todo.pop()
        if path in seen:
            continue
        seen.add(path)
        status, _, body = ask("GET", path, Authorization=BASIC)
        assert status == 200, path
        assert body["@odata.id"].rstrip("/") == path.rstrip("/")
        if "Members" in body:
            assert body["Members@odata.count"] == len(body["Members"])
        todo += links(body)
    assert len(seen) > 50


def links(value) -> list[str]:
    if isinstance(value, dict):
        own = [value["@odata.id"]] if "@odata.id" in value else []
        return own + [link for child in value.values() for link in links(child)]
    return [link for child in value for link in links(child)] if isinstance(value, list) else []


def test_bad_orders_are_refused_and_change_nothing(ask, live):
    update = "/redfish/v1/UpdateService/Actions/UpdateService.SimpleUpdate"
    assert (
        ask(
            "POST",
            update,
            {"ImageURI": "ftp://x/y", "Targets": []},
            Authorization=BASIC,
            Content_Type="application/json",
        )[0]
        == 400
    )
    assert (
        ask(
            "POST",
            update,
            {"ImageURI": "https://x/y", "Targets": []},
            Authorization=BASIC,
            Content_Type="application/json",
        )[0]
        == 400
    )
    assert (
        ask(
            "POST",
            "/redfish/v1/UpdateService/update-multipart",
            {},
            Authorization=BASIC,
            Content_Type="application/json",
        )[0]
        == 415
    )
    reset = "/redfish/v1/Systems/1/Actions/ComputerSystem.Reset"
    assert ask("POST", reset, {"ResetType": "Explode"}, Authorization=BASIC, Content_Type="application/json")[0] == 400
    assert [e for e in live.device("surge-02").log if e["what"] in ("reset", "update asked")] == []


def test_a_restart_kills_the_connection_and_comes_back(ask, live):
    reset = "/redfish/v1/Managers/1/Actions/Manager.Reset"
    assert (
        ask("POST", reset, {"ResetType": "GracefulRestart"}, Authorization=BASIC, Content_Type="application/json")[0]
        == 204
    )
    with pytest.raises((urllib.error.URLError, ConnectionError)):
        ask("GET", "/redfish/v1")
    live.call(setattr, live.device("surge-02"), "away_until", 0.0)
    assert ask("GET", "/redfish/v1")[0] == 200


def test_the_control_port_sets_faults_and_shows_the_log(live):
    base = live.floor.control_url

    def post(path, body):
        request = urllib.request.Request(base + path, json.dumps(body).encode(), {"Content-Type": "application/json"})
        return urllib.request.urlopen(request).status

    assert post("/servers/surge-02/faults", {"kind": "image refused", "slot": "bios"}) == 200
    assert [f.kind for f in live.device("surge-02").faults] == ["image refused"]
    with pytest.raises(urllib.error.HTTPError):
        post("/servers/surge-02/faults", {"kind": "no such fault"})
    told = json.loads(urllib.request.urlopen(base + "/servers/surge-02/log").read())
    assert told["versions"]["bios"] == "3.2.0" and told["dead"] == []
