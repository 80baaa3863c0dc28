"""What the OpenAPI document says beside what the views tell: how a refusal looks."""

from __future__ import annotations

from typing import Any

PROBLEM = {
    "type": "object",
    "description": "A problem document (RFC 9457).",
    "required": ["type", "title", "status", "detail"],
    "properties": {
        "type": {"type": "string", "description": "A stable code, as ordnung:not-found."},
        "title": {"type": "string"},
        "status": {"type": "integer"},
        "detail": {"type": "string", "description": "What happened and what can be done, for people."},
        "field": {"type": "string", "description": "What of the request it is about."},
        "faults": {
            "type": "array",
            "description": "Everything that is wrong with a file, with its place.",
            "items": {
                "type": "object",
                "required": ["place", "what"],
                "properties": {"place": {"type": "string"}, "what": {"type": "string"}},
            },
        },
    },
}
REFUSED = {
    "description": "Refused: not signed in, without the right, not there, in the way of something, or not understood.",
    "content": {"application/problem+json": {"schema": {"$ref": "#/components/schemas/Problem"}}},
}


def tell_problems(result: dict[str, Any], generator: object, request: object, public: bool) -> dict[str, Any]:
    """Every operation may be refused, and how that looks is the same everywhere."""
    result["components"]["schemas"]["Problem"] = PROBLEM
    for operations in result["paths"].values():
        for operation in operations.values():
            operation["responses"]["4XX"] = REFUSED
    return result
