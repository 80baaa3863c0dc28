"""The Redfish service of a stand-in: resources, queries, changes; no sockets (DSP0266)."""

from ordnung.standins.redfish.service import Reply, Request, Service
from ordnung.standins.redfish.tree import V1, find_resource

__all__ = ["V1", "Reply", "Request", "Service", "find_resource"]
