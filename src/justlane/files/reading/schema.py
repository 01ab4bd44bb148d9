"""A JSON Schema (draft 2020-12) for each kind of estate file, so that editors complete and check them."""

from __future__ import annotations

from typing import Any

from justlane.files.reading.shapes import FILE_KINDS


def schemas() -> dict[str, dict[str, Any]]:
    """File name -> schema, for every kind of file."""
    found: dict[str, dict[str, Any]] = {}
    for key, shape in FILE_KINDS.items():
        kind = key.removesuffix(" for")
        schema = shape.model_json_schema(by_alias=True, mode="validation")
        found[f"{kind}.schema.json"] = {"$schema": "https://json-schema.org/draft/2020-12/schema", **schema}
    return found
