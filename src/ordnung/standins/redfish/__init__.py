"""The Redfish service of a stand-in: resources, queries, changes; no sockets (DSP0266)."""

from ordnung.standins.redfish.service import Service
from ordnung.standins.redfish.tree import V1, find_resource
from ordnung.standins.redfish.wire import Reply, Request

__all__ = ["V1", "Reply", "Request", "Service", "find_resource"]
