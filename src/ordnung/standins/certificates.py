"""The fleet's certificate authority and the certificates it issues, kept in a folder."""

from __future__ import annotations

import datetime
import ipaddress
import ssl
from dataclasses import dataclass
from pathlib import Path

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import ExtendedKeyUsageOID, NameOID

DAYS = 3650


@dataclass(frozen=True)
class Authority:
    """A certificate authority with its key."""

    certificate: x509.Certificate
    key: ec.EllipticCurvePrivateKey
    folder: Path

    @property
    def path(self) -> Path:
        """The CA certificate as PEM."""
        return self.folder / "ca.pem"

    def issue(self, address: str, name: str = "") -> Path:
        """A PEM file with a fresh key and certificate for an IP address; returns its path."""
        key = ec.generate_private_key(ec.SECP256R1())
        subject = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, name or address)])
        public = self.certificate.public_key()
        assert isinstance(public, ec.EllipticCurvePublicKey)
        usage = x509.ExtendedKeyUsage([ExtendedKeyUsageOID.SERVER_AUTH])
        certificate = (
            _builder(subject, self.certificate.subject, key)
            .add_extension(x509.SubjectAlternativeName([x509.IPAddress(ipaddress.ip_address(address))]), False)
            .add_extension(x509.BasicConstraints(ca=False, path_length=None), True)
            .add_extension(usage, False)
            .add_extension(x509.SubjectKeyIdentifier.from_public_key(key.public_key()), False)
            .add_extension(x509.AuthorityKeyIdentifier.from_issuer_public_key(public), False)
            .sign(self.key, hashes.SHA256())
        )
        path = self.folder / f"{name or address}.pem"
        path.write_bytes(_key_bytes(key) + certificate.public_bytes(serialization.Encoding.PEM))
        path.chmod(0o600)
        return path

    def context(self, address: str, name: str = "") -> ssl.SSLContext:
        """A server's TLS context; a certificate issued before is used again."""
        path = self.folder / f"{name or address}.pem"
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        context.load_cert_chain(path if path.exists() else self.issue(address, name))
        return context


def open_authority(folder: Path) -> Authority:
    """The authority kept in ``folder``, made on first use."""
    folder.mkdir(parents=True, exist_ok=True)
    path, key_path = folder / "ca.pem", folder / "ca-key.pem"
    if not path.exists():
        _make(path, key_path)
    key = serialization.load_pem_private_key(key_path.read_bytes(), None)
    assert isinstance(key, ec.EllipticCurvePrivateKey)
    return Authority(x509.load_pem_x509_certificate(path.read_bytes()), key, folder)


def _make(path: Path, key_path: Path) -> None:
    key = ec.generate_private_key(ec.SECP256R1())
    name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "Lowmere fleet CA")])
    usage = x509.KeyUsage(
        digital_signature=True, key_cert_sign=True, crl_sign=True, content_commitment=False,
        key_encipherment=False, data_encipherment=False, key_agreement=False, encipher_only=False,
        decipher_only=False,
    )  # fmt: skip
    certificate = (
        _builder(name, name, key)
        .add_extension(x509.BasicConstraints(ca=True, path_length=0), True)
        .add_extension(usage, True)
        .add_extension(x509.SubjectKeyIdentifier.from_public_key(key.public_key()), False)
        .sign(key, hashes.SHA256())
    )
    key_path.write_bytes(_key_bytes(key))
    key_path.chmod(0o600)
    path.write_bytes(certificate.public_bytes(serialization.Encoding.PEM))


def _builder(subject: x509.Name, issuer: x509.Name, key: ec.EllipticCurvePrivateKey) -> x509.CertificateBuilder:
    now = datetime.datetime.now(datetime.UTC)
    return (
        x509.CertificateBuilder()
        .subject_name(subject)
        .issuer_name(issuer)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(now - datetime.timedelta(days=1))
        .not_valid_after(now + datetime.timedelta(days=DAYS))
    )


def _key_bytes(key: ec.EllipticCurvePrivateKey) -> bytes:
    return key.private_bytes(
        serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
    )
