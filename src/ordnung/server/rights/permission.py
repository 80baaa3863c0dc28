"""Whether a person may do what they ask for: by the command behind the address, and refused where there is none."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rest_framework.permissions import BasePermission

from ordnung.server.problems import Problem
from ordnung.server.rights.commands import command_of
from ordnung.server.rights.rights import Right, rights_of, who_has

if TYPE_CHECKING:
    from rest_framework.request import Request
    from rest_framework.views import APIView


class HasRight(BasePermission):
    """The one permission of the API."""

    def has_permission(self, request: Request, view: APIView) -> bool:
        """Whether the person has the right. Raises Problem, with whom to ask, for somebody signed in without it."""
        command = command_of(request._request)
        if command is None:
            return False
        if command.open:
            return True
        if not request.user.is_authenticated or not request.user.is_active:
            return False
        if command.right is not None:
            demand_right(request, command.right, command.name)
        return True


def demand_right(request: Request, right: Right, what: str) -> None:
    """Raises Problem, with whom to ask, where the person who asks has not the right that something takes."""
    if right in rights_of(request.user):
        return
    able = who_has(right)
    whom = f"{', '.join(able)} can" if able else "nobody here has it; whoever keeps people can give it"
    raise Problem("not-allowed", f"To {what} takes the right to {right}, which you don't have: {whom}.", status=403)
