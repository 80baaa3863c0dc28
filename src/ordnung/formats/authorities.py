"""Who vouches for a certificate: an authority's file, the system's authorities, or both."""

from __future__ import annotations

import ssl
from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Authorities:
    """``ca`` is the path of an authority's certificate, ``system`` whether the system's authorities count too."""

    ca: str | None = None
    system: bool = False

    def context(self) -> ssl.SSLContext | None:
        """A context that verifies against them; None when nobody vouches for anything.

        Raises:
            OSError: the authority's file can't be read.
        """
        if self.ca is None and not self.system:
            return None
        context = ssl.create_default_context(cafile=None if self.system else self.ca)
        if self.system and self.ca is not None:
            context.load_verify_locations(cafile=self.ca)
        return context


def authorities(ca: str | Authorities | None) -> Authorities:
    """As a caller gives them: a path stands for that authority instead of the system's, None for the system's."""
    return ca if isinstance(ca, Authorities) else Authorities(ca, system=ca is None)
