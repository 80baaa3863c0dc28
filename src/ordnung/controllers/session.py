"""A signed-in session with one controller (DSP0266, "Security details"), over any line that carries requests.

It is kept over many questions; when the controller has forgotten it, it signs in anew and the question is asked
again: a request answered 401 was certainly not acted upon.
"""

from __future__ import annotations

import asyncio
import base64
from collections.abc import Collection, Mapping
from typing import Protocol

from ordnung.controllers.answers import (
    WAIT_S,
    Answer,
    Json,
    MalformedError,
    as_dict,
    as_path,
    as_text,
    error_text,
    follow_members,
    has_no_session_left,
    leaves_open,
    link_of,
    retry_after,
    unknown_names,
    wants_it_later,
    wants_new_password,
)
from ordnung.controllers.client import Body, Endpoint, Limits
from ordnung.controllers.errors import ControllerError, LostAnswerError, UnknownParameterError
from ordnung.controllers.pace import Pace

ROOT = "/redfish/v1/"
_SESSIONS = "/redfish/v1/SessionService/Sessions"
_NO_SESSIONS = (404, 405, 410, 501)
_MAX_REDIRECTS = 3
_NOT_ON_THAT = (412, 428)
"""The state that a change names is not the present one; or it names none and has to."""
ANY = "*"
_CHANGES = 3
"""On the state that was found, on the present one, and on any."""


class Line(Protocol):
    """What carries requests to one controller: HTTPS, or a stand-in in the same process."""

    @property
    def endpoint(self) -> Endpoint: ...
    @property
    def pin(self) -> str: ...
    @property
    def limits(self) -> Limits: ...
    async def ask(
        self, method: str, path: str, headers: Mapping[str, str], body: Body | None = None, *, acted: bool = False
    ) -> Answer: ...


class Session:
    """Questions and requests to one controller, with the credentials of its endpoint."""

    def __init__(self, line: Line, *, may_go_without: bool = True) -> None:
        """``may_go_without``: credentials may come with each request while others hold all its sessions."""
        self.line, self.may_go_without = line, may_go_without
        self.is_crowded = False
        """Others hold all the sessions that there are."""
        self.is_shut = False
        """And it lets nobody in without one."""
        self.pace = Pace(line.limits.old_per_host)
        self.token: str | None = None
        self.location: str | None = None
        self.basic: str | None = None
        self.losses = 0
        """How often the controller forgot this session."""
        self._signing = asyncio.Lock()

    @property
    def endpoint(self) -> Endpoint:
        """Whose session it is."""
        return self.line.endpoint

    @property
    def pin(self) -> str:
        """The fingerprint of the certificate that the controller shows."""
        return self.line.pin

    # Reading

    async def get(self, path: str) -> Json:
        """The resource at ``path``. Raises ControllerError for anything but a JSON object."""
        answer = await self.look(path)
        self._judge(answer, path)
        return answer.body

    async def find(self, path: str | None) -> Json | None:
        """Like ``get``, but None for no path and for 404: optional resources may be missing."""
        if path is None:
            return None
        answer = await self.look(path)
        if answer.status in (404, 410):
            return None
        self._judge(answer, path)
        return answer.body

    async def listed(self, path: str | None) -> list[str | Json]:
        """The members of a collection as it lists them: by their paths, or those that stand inline."""
        try:
            return await follow_members(self.find, path, self.line.limits.members)
        except MalformedError as error:
            raise ControllerError(self.endpoint.name, "malformed answer", str(error)) from None

    async def members(self, path: str | None) -> list[Json]:
        """The members of a collection, each read; those that stand inline are taken as given."""
        found = await self.listed(path)
        bodies = [member if isinstance(member, dict) else await self.find(member) for member in found]
        return [body for body in bodies if body is not None]

    def bears_more(self) -> None:
        """The controller is of a newer kind: more requests at once are worth a try."""
        self.pace.raise_ceiling(self.line.limits.per_host)

    async def look(self, path: str) -> Answer:
        """An answer to a read whatever its status, asked again when the controller is busy or the line breaks,
        at the pace the controller bears; redirects within the controller are followed.
        """
        for _ in range(_MAX_REDIRECTS):
            answer = await self._read_patiently(path)
            if answer.status not in (301, 302, 303, 307, 308):
                return answer
            path = self._redirect(answer, path)
        raise ControllerError(self.endpoint.name, "malformed answer", f"{path[:200]} redirects without end")

    def _redirect(self, answer: Answer, path: str) -> str:
        """Where a redirect leads within the same controller. Raises ControllerError when it leads elsewhere."""
        target = answer.header("Location") or ""
        to = as_path(target)
        if to is None or not to.startswith("/") or (target.partition("://")[1] and not self._is_own(target)):
            message = f"{path[:200]} sends elsewhere ({target[:200]}); that is not followed"
            raise ControllerError(self.endpoint.name, "malformed answer", message)
        return to

    def _is_own(self, target: str) -> bool:
        return target.lower().startswith(self.endpoint.url.rstrip("/").lower() + "/")

    async def _read_patiently(self, path: str) -> Answer:
        tries = self.line.limits.read_tries
        for attempt in range(1, tries + 1):
            async with self.pace:
                try:
                    answer = await self._ask("GET", path)
                except ControllerError as error:
                    self.pace.slow_down()
                    if attempt == tries or error.cause != "unreachable":
                        raise
                    continue
            if answer.status != 503 or attempt == tries:
                return answer
            self.pace.slow_down()
            wait = retry_after(answer)
            if wait > self.line.limits.longest_wait_s:
                return answer
            await asyncio.sleep(wait)
        raise AssertionError("unreachable")

    # Changing

    async def act(self, path: str, body: Body, *, method: str = "POST", bears: Collection[int] = ()) -> Answer:
        """Send something that changes the device; sent once, never repeated here.

        Args:
            bears: statuses of a refusal that the caller knows what to do about.

        Raises:
            LostAnswerError: it may have been acted upon: ask the device before anything else.
            ControllerError: it was certainly not acted upon.
        """
        answer = await self._ask(method, path, body, acted=True)
        if answer.status not in bears:
            self._judge_act(answer, path)
        return answer

    async def change(self, path: str, found: Json, body: Json) -> Answer:
        """Change properties of a resource (PATCH) that was decided upon as it was ``found``.

        A change names the state it is made on (``If-Match``; DSP0266, "ETags"). One that is refused for that (412, 428)
        was certainly not made: it is sent again while what is to be changed is as it was found, in the end on whatever
        state there is, for services whose tags are others with each reading.

        Raises:
            LostAnswerError: it may have been made: ask the device before anything else.
            ControllerError: it was certainly not made; also where somebody else has changed the same meanwhile.
        """
        tag = as_text(found.get("@odata.etag"))
        for attempt in range(1, _CHANGES + 1):
            answer = await self._ask("PATCH", path, body, acted=True, match=tag)
            if answer.status not in _NOT_ON_THAT or attempt == _CHANGES:
                break
            fresh = await self.look(path)
            self._judge(fresh, path)
            if any(fresh.body.get(name) != found.get(name) for name in body):
                message = "somebody else has changed the same meanwhile; nothing was changed"
                raise ControllerError(self.endpoint.name, "said no", message)
            told = fresh.header("ETag") or as_text(fresh.body.get("@odata.etag"))
            tag = told if told and attempt == 1 else ANY
        self._judge_act(answer, path)
        return answer

    # Signing in and out

    async def sign_in(self, context: str = "") -> None:
        """Open a session, or use the credentials with each request where the controller offers no sessions.

        Args:
            context: what the session is to be seen with (``Context``; Session schema, 1.5).

        Raises:
            ControllerError: the credentials are refused (signed out), or nothing usable answers.
        """
        if not self.endpoint.user:
            return
        path = await self.find_sessions()
        answer = await self._post_credentials(path, context) if path is not None else None
        self.is_crowded = answer is not None and has_no_session_left(answer.body)
        if self.is_crowded and not self.may_go_without:
            raise self._crowded()
        if answer is None or answer.status in _NO_SESSIONS or self.is_crowded:
            pair = f"{self.endpoint.user}:{self.endpoint.password}".encode()
            self.basic = f"Basic {base64.b64encode(pair).decode()}"
            return
        self.token, self.location = answer.header("X-Auth-Token"), as_path(answer.header("Location"))

    async def find_sessions(self) -> str | None:
        """Where the service root, which is open to everyone, says that sessions are; None: it offers none.

        A service is asked nowhere else: what a stranger gets at a path that isn't there may look like a refusal.
        """
        root = await self._ask_patiently("GET", ROOT)
        if root.status in (401, 403):  # a root that isn't open, against the standard: the usual place is tried
            return _SESSIONS
        self._judge(root, ROOT)
        found = link_of(as_dict(root.body.get("Links")).get("Sessions"))
        return found or (_SESSIONS if link_of(root.body.get("SessionService")) else None)

    async def _post_credentials(self, path: str, context: str) -> Answer:
        credentials = {"UserName": self.endpoint.user, "Password": self.endpoint.password}
        if context:
            credentials["Context"] = context
        answer = await self._ask_patiently("POST", path, credentials)
        name = self.endpoint.name
        if answer.status >= 400 and has_no_session_left(answer.body):
            return answer
        if answer.status == 403 and wants_new_password(answer.body):
            raise self._wants_new_password()
        if answer.status in (400, 401, 403):
            raise ControllerError(name, "signed out", f"it refused user {self.endpoint.user}")
        if answer.status in (429, 503):
            message = error_text(answer.body) or "it is busy"
            raise ControllerError(name, "busy", message, retry_after_s=retry_after(answer))
        if answer.status in _NO_SESSIONS or (answer.status in (200, 201) and answer.header("X-Auth-Token")):
            return answer
        cause = "malformed answer" if answer.status >= 500 else "not Redfish"
        raise ControllerError(name, cause, f"it answered {answer.status} to the sign-in")

    async def _ask_patiently(self, method: str, path: str, body: Body | None = None) -> Answer:
        """Without credentials of a session and outside the pace, since others may wait for this: busy is waited out."""
        tries = self.line.limits.read_tries
        for attempt in range(1, tries + 1):
            answer = await self.line.ask(method, path, _headers(), body)
            wait = retry_after(answer)
            is_busy = answer.status in (429, 503) and not has_no_session_left(answer.body)
            if not is_busy or attempt == tries or wait > self.line.limits.longest_wait_s:
                break
            await asyncio.sleep(wait)
        return answer

    async def sign_out(self) -> None:
        """Close the session; a controller that is away by now has forgotten it anyway."""
        if self.token is not None and self.location is not None:
            token, self.token = self.token, None
            try:
                async with asyncio.timeout(5):
                    await self.line.ask("DELETE", self.location, {**_headers(), "X-Auth-Token": token})
            except (ControllerError, TimeoutError):
                return

    async def _ask(
        self, method: str, path: str, body: Body | None = None, *, acted: bool = False, match: str | None = None
    ) -> Answer:
        """One request with our credentials; when the session was forgotten, once more with a new one."""
        token = self.token
        answer = await self.line.ask(method, path, self._headers(body, match), body, acted=acted)
        if answer.status != 401 or token is None or not isinstance(body, dict | bytes | None):
            return answer
        async with self._signing:
            if self.token == token:
                self.token = None
                self.losses += 1
                await self.sign_in()
        return await self.line.ask(method, path, self._headers(body, match), body, acted=acted)

    def _headers(self, body: Body | None, match: str | None = None) -> dict[str, str]:
        headers = _headers() if match is None else {**_headers(), "If-Match": match}
        if self.token is not None:
            headers["X-Auth-Token"] = self.token
        elif self.basic is not None:
            headers["Authorization"] = self.basic
        if isinstance(body, bytes):
            headers["Content-Type"] = "application/octet-stream"
        return headers

    def _crowded(self) -> ControllerError:
        self.is_shut = True
        detail = "others hold all its sessions, and it lets nobody in without one"
        return ControllerError(self.endpoint.name, "busy", detail, retry_after_s=WAIT_S)

    def _wants_new_password(self) -> ControllerError:
        detail = f"the password of {self.endpoint.user} has to be changed before anything else"
        return ControllerError(self.endpoint.name, "password to be changed", detail)

    def _judge_act(self, answer: Answer, path: str) -> None:
        """As ``_judge``, of a request that changes the device; what does not say that it was refused may be done."""
        if leaves_open(answer) and not wants_it_later(answer.body):
            message = error_text(answer.body) or path[:200]
            raise LostAnswerError(self.endpoint.name, "malformed answer", f"it answered {answer.status}: {message}")
        self._judge(answer, path)

    def _judge(self, answer: Answer, path: str) -> None:
        if answer.status < 300:
            return
        name, message = self.endpoint.name, error_text(answer.body)
        if path == ROOT and answer.status in (404, 405, 410, 501):
            raise ControllerError(name, "not Redfish", "it has no service root")
        if answer.status == 401 and self.is_crowded:
            raise self._crowded()
        if answer.status == 401:
            told = "the session ended" if self.basic is None else f"it refused user {self.endpoint.user}"
            raise ControllerError(name, "signed out", told)
        if answer.status == 403 and wants_new_password(answer.body):
            raise self._wants_new_password()
        if answer.status == 403:
            raise ControllerError(name, "no permission", message or path[:200])
        if answer.status in (429, 503) or wants_it_later(answer.body):
            raise ControllerError(name, "busy", message or "it is busy", retry_after_s=retry_after(answer))
        if 400 <= answer.status < 500 and (unknown := unknown_names(answer.body)):
            raise UnknownParameterError(name, message or f"{answer.status} at {path[:200]}", unknown)
        if 400 <= answer.status < 500:
            raise ControllerError(name, "said no", message or f"{answer.status} at {path[:200]}")
        raise ControllerError(name, "malformed answer", message or f"{answer.status} at {path[:200]}")


def _headers() -> dict[str, str]:
    return {"OData-Version": "4.0", "Accept": "application/json"}
