"""The HTTP interface: one module a place, on top of everything else. What a view does is done by the rooms below."""
