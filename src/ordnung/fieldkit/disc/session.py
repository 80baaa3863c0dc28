"""What the field kit says and asks on its disc: from the first line to "nothing is left to do"."""

from __future__ import annotations

import dataclasses
import datetime
import getpass
import tempfile
from collections.abc import Callable
from urllib.parse import urlsplit

from ordnung.fieldkit.disc.access import Access, forget_access, keep_access, read_access
from ordnung.fieldkit.disc.keeping import Kept
from ordnung.fieldkit.disc.machine import Machine
from ordnung.fieldkit.host.interface import HostInterface
from ordnung.fieldkit.kit import names_needed
from ordnung.formats.errors import FormatError
from ordnung.formats.order import Order, parse_order, write_order
from ordnung.formats.rules import parse_rules
from ordnung.repository import Arrived, first_root, look_at, open_carrier, root_ids
from ordnung.repository.carry_in import read_document
from ordnung.store import RepositoryError

REPORT, UNASKED = "report", "unasked"
"""What can be chosen where the disc is started."""
HOST_REPORT = "host-report.json"
KEYS = (
    ("a", "read it again, and bring it level"),
    ("b", "put back what the last run here changed"),
    ("c", "another controller, or another user"),
    ("h", "report what is in this server"),
    ("r", "restart this server; take the disc out first"),
    ("o", "power it off"),
)


@dataclasses.dataclass(frozen=True, slots=True)
class Told:
    """What the disc tells of itself."""

    arrived: Arrived
    trust: str
    needs: tuple[str, ...]


class Session:
    """One start of the disc; ``ask`` and ``secret`` show their words and return a line."""

    def __init__(
        self, machine: Machine, say: Callable[[str], None] = print, ask: Callable[[str], str] = input,
        secret: Callable[[str], str] = getpass.getpass,
    ) -> None:  # fmt: skip
        self.machine, self.say, self.ask, self.secret = machine, say, ask, secret

    def run(self) -> int:
        """All of it; returns when the server is left."""
        self.say("Ordnung field kit. It never writes to the drives of this server.")
        kept = self.machine.keep()
        self.say(f"Nothing is kept over a reset: {kept.why_not}." if kept.why_not else "The journal is on this stick.")
        if REPORT in self.machine.given:
            self._report(kept)
            return self._choose(kept, None)
        told = self._look()
        order = self._order() if told is not None else None
        return self._choose(kept, told, begin=told is not None, order=order)

    def _order(self) -> Order | None:
        """What the kit is to do without asking; None where nobody has ordered anything, or it can't be read."""
        try:
            raw = self.machine.order()
            order = parse_order(raw, "the order on this disc") if raw is not None else None
        except (FormatError, OSError) as error:
            self.say(f"The order on this disc can't be used. {error}.")
            return None
        if order is not None:
            self.say(f"Ordered by {order.run}: {len(order.writes)} writes on {order.server}, without asking.")
        return order

    def _look(self) -> Told | None:
        """What lies on the disc; None when it can't be used, which was said then."""
        try:
            with open_carrier(self.machine.disc) as carrier:
                root = first_root(carrier)
                arrived = look_at(carrier, root, allow_expired=True)
                rules = arrived.packing.rules
                raw = read_document(carrier, arrived.seal, rules) if rules else b""
        except RepositoryError as error:
            self.say(f"The repository on this disc can't be used. {error}.")
            return None
        packing, seal = arrived.packing, arrived.seal
        self.say(f"{packing.name}, edition {packing.edition}, sealed until {seal.expires:%d %b %Y} by the root keys")
        for key in seal.root_key.split(","):
            self.say(f"  {key}")
        self.say("Compare them with your paper: whoever made this disc chose what runs here.")
        return Told(arrived, root_ids(root), names_needed(parse_rules(raw, rules)) if raw else ())

    def _choose(self, kept: Kept, told: Told | None, *, begin: bool = False, order: Order | None = None) -> int:
        """Do what is ordered, or what is chosen until the server is left."""
        if begin and told is not None:
            self._level(kept, told, order=order)
        while True:
            known = [key for key in KEYS if told is not None or key[0] not in "abc"]
            self.say("")
            for key, what in known:
                self.say(f"  {key}  {what}")
            match self.ask("> ").strip().lower():
                case "a" if told is not None:
                    self._level(kept, told)
                case "b" if told is not None:
                    self._level(kept, told, "--put-back")
                case "c" if told is not None:
                    forget_access(kept.folder)
                    self._level(kept, told)
                case "h":
                    self._report(kept)
                case "r":
                    self.machine.leave("reboot")
                    return 0
                case "o":
                    self.machine.leave("poweroff")
                    return 0

    def _report(self, kept: Kept) -> None:
        place = kept.folder / HOST_REPORT
        self.machine.ordnung(["host-report", "-o", str(place)])
        if not kept.why_not:
            self.say(f"It is kept on this stick as {HOST_REPORT}.")

    def _level(self, kept: Kept, told: Told, *more: str, order: Order | None = None) -> None:
        """Bring the server level, as far as it gets before its own system goes down."""
        told = dataclasses.replace(told, needs=()) if order is not None else told
        try:
            access = self._access(kept, told)
        except OSError as error:
            self.say(f"The controller does not answer: {error}.")
            return
        is_settled = order is not None and "seal" in order.overrides
        if not is_settled and not self._may_expired(told):
            return
        with (
            tempfile.NamedTemporaryFile("w", prefix="secret-") as secret,
            tempfile.NamedTemporaryFile("wb", prefix="order-") as ordered,
        ):
            secret.write(access.password + "\n")
            secret.flush()
            ordered.write(write_order(order) if order is not None else b"")
            ordered.flush()
            arguments = [
                "level", "--controller", access.url, "--user", access.user, "--password-file", secret.name,
                "--pin", access.pin, "--repository", str(self.machine.disc), "--trust", told.trust, "--in-place",
                "--on-disc", "--work", str(kept.folder), *more,
            ]  # fmt: skip
            arguments += ["--expired"] if told.arrived.seal.is_expired else []
            arguments += ["--yes"] if UNASKED in self.machine.given and not more else []
            arguments += ["--order", ordered.name] if order is not None else []
            arguments += [f"--{word}={value}" for word, value in _words(access).items() if value]
            code = self.machine.ordnung(arguments)
        if code == 0:
            forget_access(kept.folder)
            self.say("Nothing is left to do here.")
        else:
            self.say("Not everything is done; above it says why.")

    def _may_expired(self, told: Told) -> bool:
        seal = told.arrived.seal
        if not seal.is_expired:
            return True
        now = datetime.datetime.now(datetime.UTC)
        self.say(f"Its seal ended on {seal.expires:%d %b %Y}. The clock of this server says {now:%d %b %Y %H:%M} UTC.")
        return self._agreed("Go on with it all the same? [y/n] ")

    def _agreed(self, question: str) -> bool:
        return self.ask(question).strip().lower() in ("y", "yes")

    # The controller.

    def _access(self, kept: Kept, told: Told) -> Access:
        """How the controller is reached: as kept, as it hands out itself, or as somebody says. Raises OSError."""
        before = read_access(kept.folder)
        found = self._own_controller()
        if found is not None and before is not None and before.url == found.url:
            return before
        if found is not None:
            handed = self.machine.handed() if found.bootstraps else None
            # The link ends inside this server: what answers there is its controller.
            pin = (handed.pin if handed else "") or self.machine.certificate(found.url)
            if handed is not None:
                self.say("It hands out a user for this kit.")
                return self._named(
                    Access(url=found.url, user=handed.user, password=handed.password, pin=pin), told, before
                )
            return self._kept_if_wanted(kept, self._signed_in(found.url, pin, told))
        if not self.machine.bring_up():
            self.say("No network card was given an address (DHCP).")
        if before is not None:
            return before
        url = self._address()
        pin = self.machine.certificate(url)
        self.say(f"{url} shows a certificate with the SHA-256\n  {pin}")
        if not self._agreed("Is it this server's controller? [y/n] "):
            raise ConnectionAbortedError(0, "its certificate was not the one expected")
        return self._kept_if_wanted(kept, self._signed_in(url, pin, told))

    def _own_controller(self) -> HostInterface | None:
        found = self.machine.own_controller()
        if found is None:
            self.say("This server tells of no inner link to its controller.")
        elif url := self.machine.lead_to(found):
            self.say(f"This server's own controller: {found.url}")
            return dataclasses.replace(found, url=url)
        else:
            self.say(f"This server tells of an inner link to {found.url}, but it does not come up.")
        return None

    def _address(self) -> str:
        while True:
            url = self.ask("Address of this server's controller: ").strip()
            url = url if "://" in url else f"https://{url}"
            if url.startswith("https://") and urlsplit(url).hostname:
                return url.rstrip("/")
            self.say("An address such as 10.0.3.7 or https://10.0.3.7:8443.")

    def _signed_in(self, url: str, pin: str, told: Told) -> Access:
        user = self.ask("User of the controller: ").strip()
        return self._named(Access(url=url, user=user, password=self.secret("Password: "), pin=pin), told, None)

    def _named(self, access: Access, told: Told, before: Access | None) -> Access:
        """With what the house's rules go by and no controller knows."""
        if before is not None:
            return dataclasses.replace(access, name=before.name, group=before.group)
        name = self.ask("What the house calls this server: ").strip() if "server" in told.needs else ""
        group = self.ask("Its group in the house: ").strip() if "group" in told.needs else ""
        return dataclasses.replace(access, name=name, group=group)

    def _kept_if_wanted(self, kept: Kept, access: Access) -> Access:
        question = "Keep this on the stick until the server is level, so that it goes on after each reset? [y/n] "
        if not kept.why_not and self._agreed(question):
            keep_access(kept.folder, access)
        return access


def _words(access: Access) -> dict[str, str]:
    return {"name": access.name, "group": access.group}
