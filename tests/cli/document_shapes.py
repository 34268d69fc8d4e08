"""The shapes of JSON documents: names, types and what may be missing, without the words that explain them."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

KEPT = Path(__file__).with_suffix(".json")


def shape(schema: dict[str, Any]) -> Any:
    """A JSON Schema as nested types; a choice of words is a text."""
    return _shape(schema, schema.get("$defs", {}))


def _shape(node: Any, known: dict[str, Any]) -> Any:
    if "$ref" in node:
        return _shape(known[node["$ref"].rpartition("/")[2]], known)
    if "anyOf" in node:
        parts = {json.dumps(_shape(part, known), sort_keys=True) for part in node["anyOf"]}
        return {"any of": [json.loads(part) for part in sorted(parts)]} if len(parts) > 1 else json.loads(parts.pop())
    if "const" in node and str(node["const"]).startswith("direkt."):
        return node["const"]
    kind = node.get("type", "anything")
    if kind == "array":
        return [_shape(node.get("items", {}), known)]
    if kind == "object" and "properties" in node:
        required = node.get("required", [])
        return {n if n in required else f"{n}?": _shape(part, known) for n, part in sorted(node["properties"].items())}
    if kind == "object":
        more = node.get("additionalProperties", {})
        return {"*": _shape(more if isinstance(more, dict) else {}, known)}
    return kind
