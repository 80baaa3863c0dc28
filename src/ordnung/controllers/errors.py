"""What can go wrong between us and a management controller: a closed list, each with its remedy."""

from __future__ import annotations

CAUSES: dict[str, str] = {
    "unreachable": "Check the cable, the address and that the controller has power; then read it again.",
    "refused": (
        "Nothing listens at this address and port. Check the address; "
        "a controller that restarts answers again in a few minutes."
    ),
    "certificate changed": (
        "Compare the new fingerprint with the controller itself. If it was replaced or reset, accept the new "
        "certificate; otherwise leave it alone."
    ),
    "certificate invalid": "Install one that the fleet's authority vouches for, or pin this one after comparing it.",
    "TLS too old": (
        "Nothing was sent to it. Allow TLS 1.2 at its controller, or bring it a newer release from its own page."
    ),
    "signed out": "The user name or the password is wrong. Enter the present one for this server.",
    "another server": (
        "Correct the address of this server. If it is the same one with another board, say so where it stands on the "
        "floor. Nothing more was sent there."
    ),
    "password to be changed": (
        "Its controller lets this account do nothing before that. Change it there, then enter the new one for this "
        "server."
    ),
    "no credentials": "Enter user and password for this server. Nothing was sent to it.",
    "no permission": "This account may not do that. Use one that may update firmware.",
    "too slow": "It did not answer in time. Read it again later, or restart the controller.",
    "malformed answer": (
        "The controller answered with something that is not valid Redfish. Read it again; if it stays, "
        "restart the controller."
    ),
    "not Redfish": "Something else answers at this address. Check the address.",
    "not allowed": (
        "Its address lies outside the networks this house allows. Correct the address, or have the network allowed."
    ),
    "said no": "The controller refused the request; its words are given.",
    "busy": "The controller asked to be left alone for now. It will be asked again later.",
    "our error": "Ordnung met an error of its own with this server's answers. Tell those who keep it, with the log.",
}


FOR_SEVERAL: dict[str, str] = {
    "unreachable": "Check cable, address and power of their controllers; then read them again.",
    "refused": "Nothing listens there. A controller that restarts answers again in a few minutes.",
    "certificate changed": "Compare each fingerprint with the controller itself before it is accepted.",
    "certificate invalid": (
        "The fleet's authority does not vouch for them. Compare each fingerprint with its controller before it is "
        "accepted."
    ),
    "TLS too old": "Allow TLS 1.2 at their controllers, or bring them newer releases from their own pages.",
    "signed out": "User or password is wrong. Select them and enter the present ones.",
    "another server": ("Correct their addresses. Where one is the same server with another board, open it and say so."),
    "password to be changed": "Change the password of the account at each controller, then enter the new one for it.",
    "no credentials": "No password is kept for them. Select them and enter user and password.",
    "no permission": "Their account may not do that. Use one that may update firmware.",
    "too slow": "They did not answer in time. Read them again later.",
    "malformed answer": (
        "They answered with something that is not valid Redfish. If it stays, restart the controller."
    ),
    "not Redfish": "Something else answers at these addresses.",
    "not allowed": "Their addresses are outside the networks this house allows.",
    "said no": "The controllers refused the request.",
    "our error": "Ordnung met an error of its own with their answers. Tell those who keep it, with the log.",
    "busy": "They asked to be left alone for now. Read them again later.",
}
"""The remedies for a whole batch of controllers with one cause."""


class ControllerError(Exception):
    """A controller can't be used. ``cause`` is one of ``CAUSES``; ``detail`` what was seen.

    ``retry_after_s`` is set when the controller named a time; ``seen`` is the fingerprint of a
    changed certificate.
    """

    def __init__(
        self,
        server: str,
        cause: str,
        detail: str,
        *,
        retry_after_s: float | None = None,
        seen: str | None = None,
    ) -> None:
        assert cause in CAUSES
        self.server, self.cause, self.detail = server, cause, detail
        self.retry_after_s, self.seen = retry_after_s, seen
        super().__init__(f"{server}: {cause}: {detail}")

    @property
    def remedy(self) -> str:
        """What the person can do."""
        return CAUSES[self.cause]


class AnotherServerError(ControllerError):
    """Another server answers than the one that is known there, by the ``uuid`` and ``serial`` that it tells."""

    def __init__(self, server: str, detail: str, *, uuid: str | None, serial: str | None) -> None:
        self.uuid, self.serial = uuid, serial
        super().__init__(server, "another server", detail)


class UnknownParameterError(ControllerError):
    """A request was refused because it names something that the controller doesn't know; nothing of it was done.

    ``names`` are what it does not know, as it calls them.
    """

    def __init__(self, server: str, detail: str, names: frozenset[str]) -> None:
        self.names = names
        super().__init__(server, "said no", detail)


class LostAnswerError(ControllerError):
    """A request that changes the device was sent and no answer came: it may have been acted upon.

    It must not be sent again before the device was asked what happened.
    """
