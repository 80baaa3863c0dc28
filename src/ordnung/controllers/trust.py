"""How a controller is spoken to over TLS, and what goes wrong there, by name."""

from __future__ import annotations

import ssl

import aiohttp
from aiohttp.client_reqrep import ClientRequest

CIPHERS = (
    "ECDHE+AESGCM:ECDHE+CHACHA20:DHE+AESGCM:ECDHE+AES:DHE+AES:RSA+AESGCM:RSA+AES"
    ":!aNULL:!eNULL:!aDSS:!AESCCM:@SECLEVEL=2"
)
"""Of TLS 1.2, best first. Those at the end have no forward secrecy, and Python leaves them out by itself: DSP0266
("Cipher suites") names them, and controllers of some age have no others. Of TLS 1.3 all are good.
"""
_TOO_OLD = (
    "TLSV1_ALERT_PROTOCOL_VERSION", "TLSV1_ALERT_INSUFFICIENT_SECURITY", "SSLV3_ALERT_HANDSHAKE_FAILURE",
    "UNSUPPORTED_PROTOCOL", "WRONG_SSL_VERSION", "NO_PROTOCOLS_AVAILABLE", "DH_KEY_TOO_SMALL", "BAD_DH_VALUE",
    "LEGACY_SIGALG_DISALLOWED_OR_UNSUPPORTED", "WRONG_SIGNATURE_TYPE",
)  # fmt: skip
"""OpenSSL's reasons that mean: it speaks TLS, and no kind of it that is spoken here."""
_UNVERIFIED = {
    9: "it is not valid yet, by the clock here",
    10: "it has ended",
    62: "it is for another name",
    64: "it is for another address",
    66: "its key is too short to be vouched for",
    67: "its authority's key is too short",
    68: "it is signed in a way that is not safe any more",
}
"""X509_V_ERR_* of OpenSSL (``x509_vfy.h``) in words; what is not here is that nobody known here issued it."""


def widen(context: ssl.SSLContext) -> ssl.SSLContext:
    """The same context with all ciphers that are spoken to controllers, from TLS 1.2 on."""
    context.minimum_version = ssl.TLSVersion.TLSv1_2
    context.set_ciphers(CIPHERS)
    return context


def unverified() -> ssl.SSLContext:
    """A context that vouches for nobody: to look at a certificate, or where its fingerprint is compared."""
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
    context.check_hostname, context.verify_mode = False, ssl.CERT_NONE
    return widen(context)


class PinnedConnector(aiohttp.TCPConnector):
    """Connections whose certificates are compared with a fingerprint, over the ciphers of controllers.

    aiohttp takes a fingerprint or a context for a request, not both; with the one it goes by a context of its own.
    """

    _context = unverified()

    def _get_ssl_context(self, req: ClientRequest) -> ssl.SSLContext | None:
        return self._context if isinstance(req.ssl, aiohttp.Fingerprint) else super()._get_ssl_context(req)


def is_too_old(error: BaseException) -> bool:
    """Whether both ends speak TLS and have none in common."""
    found = getattr(error, "os_error", error)  # aiohttp wraps what OpenSSL says
    return isinstance(found, ssl.SSLError) and found.reason in _TOO_OLD


def tell_certificate(error: BaseException) -> str:
    """What is wrong with a certificate that could not be verified."""
    found = getattr(error, "certificate_error", error)
    return _UNVERIFIED.get(getattr(found, "verify_code", 0), "it was not issued by the fleet's authority")
