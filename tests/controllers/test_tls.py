"""Controllers of some age: which TLS is spoken to them, and what is said where none is or a certificate does not hold."""

from __future__ import annotations

import contextlib
import datetime
import ipaddress
import socket
import ssl
import threading

import pytest
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import rsa
from cryptography.x509.oid import NameOID

from ordnung.controllers import Client, ControllerError, Endpoint

DAY = datetime.timedelta(days=1)
ANSWER = b"HTTP/1.1 200 OK\r\nContent-Length: 2\r\nConnection: close\r\n\r\n{}"


def make_certificate(folder, *, bits=2048, name="127.0.0.1", starts=-1, ends=9) -> str:
    """Key and certificate in one file, its own authority; ``starts`` and ``ends`` in days from now."""
    key = rsa.generate_private_key(public_exponent=65537, key_size=bits)
    subject = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "an old controller")])
    now = datetime.datetime.now(datetime.UTC)
    made = (
        x509.CertificateBuilder().subject_name(subject).issuer_name(subject).public_key(key.public_key())
        .serial_number(7).not_valid_before(now + starts * DAY).not_valid_after(now + ends * DAY)
        .add_extension(x509.SubjectAlternativeName([x509.IPAddress(ipaddress.ip_address(name))]), critical=False)
        .sign(key, hashes.SHA256())
    )  # fmt: skip
    private = key.private_bytes(
        serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
    )
    path = folder / "both.pem"
    path.write_bytes(private + made.public_bytes(serialization.Encoding.PEM))
    return str(path)


@contextlib.contextmanager
def listening(certificate, *, ciphers="ALL", newest=None):
    """Something that speaks a TLS of its own kind; gives its address."""
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.set_ciphers(f"{ciphers}:@SECLEVEL=0")
    context.minimum_version, context.maximum_version = (
        ssl.TLSVersion.MINIMUM_SUPPORTED,
        newest or ssl.TLSVersion.TLSv1_2,
    )
    context.load_cert_chain(certificate)
    with socket.create_server(("127.0.0.1", 0)) as server:
        thread = threading.Thread(target=_serve, args=(server, context), daemon=True)
        thread.start()
        yield f"https://127.0.0.1:{server.getsockname()[1]}"
        server.shutdown(socket.SHUT_RDWR)
        thread.join(10)


def _serve(server, context):
    while True:
        try:
            plain, _ = server.accept()
        except OSError:
            return
        with contextlib.suppress(OSError), plain, context.wrap_socket(plain, server_side=True) as line:
            if line.recv(65536):
                line.sendall(ANSWER)


async def speak(url, ca):
    """The status of a question, over a connection that is vouched for first and pinned then."""
    endpoint = Endpoint(name="old", url=url, user="", password="")
    async with Client(ca) as client:
        pin = await client.fetch_pin(endpoint)
        assert pin == await client.see_pin(endpoint)
        return (await client.line(endpoint, pin).ask("GET", "/redfish/v1/", {})).status


async def causes(url, ca):
    endpoint = Endpoint(name="old", url=url, user="", password="")
    async with Client(ca) as client:
        looks = (
            client.fetch_pin(endpoint),
            client.see_pin(endpoint),
            client.line(endpoint, "0" * 64).ask("GET", "/", {}),
        )
        found = []
        for look in looks:
            with pytest.raises(ControllerError) as caught:
                await look
            found.append(caught.value.cause)
        return found


@pytest.mark.parametrize("ciphers", ["AES128-SHA", "AES256-GCM-SHA384", "AES256-SHA256", "ECDHE-RSA-AES128-SHA"])
async def test_a_controller_that_has_but_the_older_ciphers_of_its_standard_is_spoken_to(tmp_path, ciphers):
    """It was said that it speaks no TLS: Python leaves them out of its own choice."""
    certificate = make_certificate(tmp_path)
    with listening(certificate, ciphers=ciphers) as url:
        assert await speak(url, certificate) == 200


@pytest.mark.filterwarnings("ignore:ssl.TLSVersion.TLSv1_1:DeprecationWarning")
@pytest.mark.parametrize(
    "kind", [{"newest": ssl.TLSVersion.TLSv1_1}, {"ciphers": "NULL-SHA256"}, {"ciphers": "AECDH-AES128-SHA"}],
    ids=["TLS 1.1", "nothing is hidden", "nobody shows a certificate"],
)  # fmt: skip
async def test_what_is_not_safe_any_more_is_not_spoken_and_called_by_its_name(tmp_path, kind):
    certificate = make_certificate(tmp_path)
    with listening(certificate, **kind) as url:
        assert await causes(url, certificate) == ["TLS too old"] * 3


async def test_what_speaks_no_tls_at_all_is_something_else():
    with socket.create_server(("127.0.0.1", 0)) as server:

        def answer():
            for _ in range(3):
                line, _ = server.accept()
                with line:
                    line.recv(4096)
                    line.sendall(b"SSH-2.0-something\r\n")

        thread = threading.Thread(target=answer, daemon=True)
        thread.start()
        assert await causes(f"https://127.0.0.1:{server.getsockname()[1]}", None) == [
            "certificate invalid",
            *["not Redfish"] * 2,
        ]


@pytest.mark.parametrize(
    ("made", "told"),
    [
        ({"ends": -0.5}, "it has ended"),
        ({"starts": 1}, "it is not valid yet, by the clock here"),
        ({"name": "127.0.0.2"}, "it is for another address"),
        ({"bits": 1024}, "its key is too short to be vouched for"),
    ],
    ids=["over", "not begun", "another address", "a short key"],
)
async def test_why_a_certificate_does_not_hold_is_told_and_its_fingerprint_can_be_accepted(tmp_path, made, told):
    """All of it was told as issued by somebody else."""
    certificate = make_certificate(tmp_path, **made)
    with listening(certificate) as url:
        endpoint = Endpoint(name="old", url=url, user="", password="")
        async with Client(certificate) as client:
            with pytest.raises(ControllerError) as caught:
                await client.fetch_pin(endpoint)
            assert (caught.value.cause, caught.value.detail) == ("certificate invalid", told)
            assert caught.value.seen is not None
            assert (await client.line(endpoint, caught.value.seen).ask("GET", "/redfish/v1/", {})).status == 200
