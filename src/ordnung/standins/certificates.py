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

    def issue(self, address: str, name: str = "", *, days: int = DAYS, own: bool = False) -> Path:
        """A PEM file with a fresh key and certificate for an IP address; returns its path.

        ``own`` makes a self-signed one, as controllers come from the factory.
        """
        key = ec.generate_private_key(ec.SECP256R1())
        subject = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, name or address)])
        public = self.certificate.public_key()
        assert isinstance(public, ec.EllipticCurvePublicKey)
        usage = x509.ExtendedKeyUsage([ExtendedKeyUsageOID.SERVER_AUTH])
        certificate = (
            _builder(subject, subject if own else self.certificate.subject, key, days)
            .add_extension(x509.SubjectAlternativeName([x509.IPAddress(ipaddress.ip_address(address))]), False)
            .add_extension(x509.BasicConstraints(ca=False, path_length=None), True)
            .add_extension(usage, False)
            .add_extension(x509.SubjectKeyIdentifier.from_public_key(key.public_key()), False)
            .add_extension(
                x509.AuthorityKeyIdentifier.from_issuer_public_key(key.public_key() if own else public), False
            )
            .sign(key if own else self.key, hashes.SHA256())
        )
        path = self.folder / f"{name or address}.pem"
        path.write_bytes(_key_bytes(key) + certificate.public_bytes(serialization.Encoding.PEM))
        path.chmod(0o600)
        return path

    def path_of(self, address: str, name: str = "", *, days: int = DAYS, own: bool = False) -> Path:
        """The PEM file for an address; one issued before is used again."""
        path = self.folder / f"{name or address}.pem"
        return path if path.exists() else self.issue(address, name, days=days, own=own)

    def context(self, address: str, name: str = "") -> ssl.SSLContext:
        """A server's TLS context."""
        return make_context(self.path_of(address, name))


def make_context(path: Path) -> ssl.SSLContext:
    """A server's TLS context from a PEM file with key and certificate."""
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(path)
    return context


def tell_certificate(path: Path) -> tuple[str, str, str]:
    """The certificate in a PEM file, and from when to when it is valid."""
    found = x509.load_pem_x509_certificate(path.read_bytes())
    pem = found.public_bytes(serialization.Encoding.PEM).decode()
    return pem, found.not_valid_before_utc.isoformat(), found.not_valid_after_utc.isoformat()


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


def _builder(
    subject: x509.Name, issuer: x509.Name, key: ec.EllipticCurvePrivateKey, days: int = DAYS
) -> x509.CertificateBuilder:
    now = datetime.datetime.now(datetime.UTC)
    return (
        x509.CertificateBuilder()
        .subject_name(subject)
        .issuer_name(issuer)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(now - datetime.timedelta(days=1))
        .not_valid_after(now + datetime.timedelta(days=days))
    )


def _key_bytes(key: ec.EllipticCurvePrivateKey) -> bytes:
    return key.private_bytes(
        serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
    )
