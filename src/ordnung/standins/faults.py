"""The faults a stand-in can have, by name: a closed list, each set on the device and never on our client."""

from __future__ import annotations

import random
from dataclasses import dataclass

FAULTS: dict[str, str] = {
    # the line
    "refused": "nothing listens at its address",
    "reset": "connections are cut when a request comes",
    "slow": "every answer takes `seconds`",
    "silent": "no answer at all",
    "answer lost": "acted upon, but the answer never arrives (`on`: update or reset)",
    "fails late": "acted upon, and answered with 500 all the same (`on`: update or reset)",
    "fails early": "answered with 500 and not acted upon (`on`: update or reset)",
    "busy": "503 with Retry-After of `seconds` (`on`: to update or reset alone)",
    "session expired": "all sessions end",
    "sessions taken": "others hold all its sessions (`on`: alone: and it takes credentials with no request)",
    "malformed": "an answer that is no JSON (`on`: text, cut, deep, huge, list)",
    "not Redfish": "something else answers",
    "password changed": "after `seconds` requests the password is another",
    # updates
    "task stalls": "a write stands still at 47 %",
    "task vanishes": "the task is forgotten with the next controller restart",
    "task lies": "says done while the version stays old",
    "task denies": "says failed though it was written",
    "version late": "the new version shows after `seconds`",
    "version untold": "a component tells no version",
    "write fails": "the component fails while it is written",
    "supply starts late": "once a power supply is written it carries nothing for `seconds`",
    "drive drops out": "once a drive is written its volume lacks it for `seconds`",
    "set-up fails": "a service partition can't be set up: half way it stops",
    "image refused": "the image is refused",
    "signature refused": "the signature is refused",
    "staging full": "no room for an image",
    "refuses company": "an image is refused while that of another component waits for a reset",
    "wants a restart": "every image is refused until the controller was restarted",
    "wants a step": "an image is refused until the component has the version `on`, which it takes",
    "link cut": "the line to the repository breaks during a pull",
    # resets
    "stays away": "the controller is away `seconds` longer",
    "restart ignored": "a restart of the controller is accepted and does not come to pass",
    "boot hangs": "the server stands still in its power-on self-test",
    "boot order ignored": "the next start goes to its own system, whatever was chosen for it",
    "media lost": "the disc that it was started from is gone once the next write has begun",
    "part gone": "a component is gone after the next reboot",
    "link stays down": "the first port of a card has no link after the next reboot, for `seconds` (0: until mended)",
    "boot order changed": "the next reboot puts its boot order in another order",
    "settings lost": "the next reboot puts one of its settings back to what it was delivered with",
    "volume degraded": "its volume comes back degraded from the next reboot",
    # the server's own state
    "clock wrong": "its clock is `seconds` off",
    "job pending": "someone else's job waits",
    "array rebuilding": "a volume rebuilds",
    "feed lost": "the last power supply has no input",
    "licence missing": "no licence to be pushed to",
}
FAULT_KINDS = tuple(FAULTS)
LASTING = frozenset(
    {
        "refused", "reset", "slow", "silent", "malformed", "not Redfish", "clock wrong", "job pending",
        "array rebuilding", "feed lost", "licence missing", "refuses company", "wants a restart", "wants a step",
        "version untold",
    }
)  # fmt: skip
"""Faults that last until they are cleared; the others are used up, ``times`` times."""

CHANGING = ("link stays down", "boot order changed", "settings lost", "volume degraded")
"""Faults by which a start leaves something around the firmware otherwise than it was."""

QUIRKS: dict[str, str] = {
    "numbers as strings": "numbers and booleans are spelled as strings, versions as numbers where they look like one",
    "trailing blanks": "versions are padded with blanks",
    "paged": "collections come two members at a time",
    "dead links": "links to collections that answer 404",
    "no optional": "Storage, PCIeDevices and power are missing altogether",
    "nic twice": "every card is listed under two chassis",
    "no drive revision": "drives tell no revision",
    "no related items": "inventory entries don't say what they belong to",
    "old shapes": "Power and embedded storage controllers instead of the newer resources",
    "expand broken": "$expand is advertised and answers 500",
    "no reset time": "neither the server nor the controller tells when it was reset last",
    "reset times in 1970": "its clock begins in 1970 with each restart, and that is when it says that anything was reset",
    "reset times reckoned": "it reckons from how long things have run when they were reset, and is a second off at times",
    "restarts not counted": "when the server was reset last is when its power came; a restart is none",
    "resets late": "a reset that it has taken on begins a minute and a half later",
    "no boot progress": "it does not tell how far its start has come",
    "power in steps": "while it starts its power is told as being switched on",
    "start told in its words": "how far its start has come it tells in words of its maker's own",
    "start told to its hardware": "how far its start has come is told no further than until its hardware is ready",
    "start half told": "how far its start has come is told no further than until its own system begins",
    "empty 202": "an update is taken on with 202, a Location and no body",
    "bare 202": "an update is taken on with 202 alone: no body, no Location",
    "no task state": "its tasks don't say in which state they are; only their monitors do",
    "no task list": "it has no task service; a monitor is all there is",
    "jobs instead of tasks": "what is under way is a job, and where an update can be followed is that",
    "becomes a job": "the task of an update ends at once, and says into which job it has turned",
    "basic only": "it has no sessions: credentials come with each request",
    "sessions elsewhere": "sessions are where the service root says, and are opened with 200",
    "no session context": "its sessions do not show what they were opened with",
    "strict sign-in": "to sign in it takes a name and a password and nothing else",
    "in an enclosure": "it tells of the enclosure that it is plugged into with others, and of its manager, before its own",
    "cycled together": "and only that whole enclosure can be power-cycled",
    "power cycle on system": "a power cycle is offered on the system, not on the chassis",
    "action info": "what an action takes is told by ActionInfo",
    "pulls untold": "over what it fetches images is not told",
    "targets unknown": "it knows no targets: what an image is for it tells by the image, and whoever names one is refused",
    "targets elsewhere": "what may be named as a target is what an image is for, and not its inventory entry",
    "plain push": "images are pushed to it as they are, whatever they are for, and it fetches none",
    "no apply time": "when an image is written is not for its client to say: asked for, it is refused",
    "writes at reset": "an image that needs a reset is written by that, and its task is pending until then",
    "open until reset": "the task of what needs a reset is open until it is active, and says what it waits for",
    "one at a time": "while an image waits to be written by a reset, others are put off",
    "graceful ignored": "a graceful restart is accepted and does not come to pass",
    "inline members": "power supplies stand inside their collection, without links of their own",
    "no partition volumes": "it shows service partitions and not what they lie on: none can be set up",
    "one other start": "its starts can be sent elsewhere once, and not for good",
    "starts by path": "its next start can be sent to a boot option by its device path, and not by its reference",
    "starts untold": "where its starts are sent is done and not shown",
    "media at manager": "its virtual media are told with the manager, as older services do",
    "media by change": "a disc is inserted by changing its virtual media; there is no action for it",
    "media plain": "to insert a disc it takes the image and nothing else",
    "no user handed out": "its inner link hands out no user to what runs on its server",
    "wants its tag": "a change that does not name the state it is made on is refused",
    "tags untold": "what can be changed tells no tag in its body",
    "tags change": "the tag of what can be changed is another with each reading",
    "wakes slowly": "once restarted it answers wrongly for a while: 502, no root, a bare root, no inventory",
    "accounts late": "once restarted it refuses everybody who signs in for a minute and a half",
    "resets untold": "once restarted it tells of no resets for a minute and a half",
    "clock late": "once restarted its clock begins in 1970, until it has asked for the time five minutes later",
    "versions in ids": "the members of its inventory are named by what they are and by their versions",
    "waiting untold": "its inventory tells what runs, and nothing of what waits for a reset",
    "versions early": "its inventory tells what was written as what runs, before the reset that makes it active",
    "two images": "each image of what has two is a member of its own, whichever of them runs",
    "listed one by one": "after each start its parts come into its inventory one after the other",
    "versions late": "after each start it tells no versions but its own for two and a half minutes",
    "supplies at once": "its power supplies run what is written to them at once, whatever their package says",
    "no restart offered": "nobody can ask its controller to restart",
    "reboots itself": "once what a reboot makes active is written its server is rebooted unasked, unless that was asked for OnReset",
    "restarts itself": "once its own image is written it restarts unasked, and its tasks are forgotten",
    "certificate anew": "with its new image it makes its certificate anew",
    "accounts anew": "with its new image its accounts are as it was delivered",
    "password enforced": "whose password has to be changed is let do nothing else",
    "zero uuid": "its UUID is nothing but zeros",
}
"""What the standard allows or real controllers do: no fault, but to be borne. Set by seed or by hand."""


@dataclass
class Fault:
    """One fault set on this device: what, on which slot if it matters, how often, how long."""

    kind: str
    slot: str | None = None
    times: int = 1
    seconds: float = 0.0
    on: str | None = None

    def __post_init__(self) -> None:
        """Raises ValueError for a kind that is not listed."""
        if self.kind not in FAULTS:
            raise ValueError(f"kind is one of {', '.join(FAULTS)}")


def random_faults(seed: int, count: int) -> list[Fault]:
    """Faults for a soak: never one that needs a person to clear it before a server answers again."""
    chance = random.Random(seed)
    left_out = {"password changed", "part gone", "write fails", "task lies", "boot order ignored", "media lost"}
    left_out |= {"restart ignored"}
    kinds = sorted(set(FAULTS) - LASTING - left_out - set(CHANGING))
    found = []
    for _ in range(count):
        kind = chance.choice(kinds)
        on = chance.choice(("update", "reset")) if kind == "answer lost" else None
        found.append(Fault(kind, seconds=chance.choice((1.0, 60.0, 180.0)), on=on, times=chance.choice((1, 1, 2))))
    return found
