"""OpenAPI documents, with their references followed."""

import json
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import yaml

from mantisreed.errors import InputError

_VERBS = ("post", "put", "patch", "get")

_DEEPEST = 12  # references inside each other that are followed


def read_openapi(content: bytes) -> Mapping[str, Any] | None:
    """The document; None when it is no OpenAPI document.

    Raises:
        InputError: it is one of an older kind.
    """
    # Before anything is parsed, as YAML takes long and a reply may be large.
    head = content[:200_000]
    if b"openapi" not in head and b"swagger" not in head:
        return None
    try:
        if content.lstrip().startswith(b"{"):
            document = json.loads(content)
        else:
            document = yaml.safe_load(content)
    except (ValueError, yaml.YAMLError, RecursionError):
        return None
    if not isinstance(document, dict):
        return None
    if "swagger" in document:
        raise InputError(
            f"this is an API description of version {document['swagger']}",
            advice="OpenAPI 3 can be read: convert it",
        )
    if str(document.get("openapi", "")).startswith("3."):
        return document
    return None


@dataclass(frozen=True, slots=True)
class Operation:
    """One operation of a document, its references followed.

    Attributes:
        id: its `operationId`, or method and path.
        verb, path: as in a request.
        body: its request body's media types with their schemas.
        parameters: those of the path and of itself.
        answers: from media type to schema, of the first answer that is no error.
        links, headers: of the same answer.
        raw: as it stands.
    """

    id: str
    verb: str
    path: str
    body: Mapping[str, Any]
    parameters: Sequence[Mapping[str, Any]]
    answers: Mapping[str, Any]
    links: Mapping[str, Any]
    headers: Mapping[str, Any]
    raw: Mapping[str, Any] = field(repr=False)


class OpenApiDocument:
    """A document whose references are followed."""

    def __init__(self, document: Mapping[str, Any]) -> None:
        self.raw = document

    def resolved(self, value: Any, within: tuple[str, ...] = ()) -> Any:
        """A value with all references in it followed; one that leads back to itself is empty."""
        if len(within) > _DEEPEST:
            return {}
        if isinstance(value, Mapping):
            return self._resolved_mapping(value, within)
        if isinstance(value, list):
            return [self.resolved(item, within) for item in value]
        return value

    def _resolved_mapping(self, value: Mapping[str, Any], within: tuple[str, ...]) -> Any:
        reference = value.get("$ref")
        if isinstance(reference, str):
            if reference in within:
                return {}
            return self.resolved(self._at(reference), (*within, reference))
        if "allOf" in value:
            return self._all_of(value, within)
        for key in ("oneOf", "anyOf"):
            choices = value.get(key)
            if isinstance(choices, list) and choices:
                choice = next((one for one in choices if one != {"type": "null"}), choices[0])
                others = {name: item for name, item in value.items() if name != key}
                return self.resolved({**others, **choice}, within)
        return {key: self.resolved(item, within) for key, item in value.items()}

    def _all_of(self, value: Mapping[str, Any], within: tuple[str, ...]) -> dict[str, Any]:
        merged: dict[str, Any] = {key: item for key, item in value.items() if key != "allOf"}
        for part in value["allOf"]:
            found = self.resolved(part, within)
            properties = {**merged.get("properties", {}), **found.get("properties", {})}
            required = [*merged.get("required", ()), *found.get("required", ())]
            merged = {**merged, **found}
            # What each part asks for counts, and not only what the last one does.
            for key, together in (("properties", properties), ("required", required)):
                if together:
                    merged[key] = together
        resolved = self.resolved(merged, within)
        assert isinstance(resolved, dict)
        return resolved

    def _at(self, reference: str) -> Any:
        found: Any = self.raw
        for part in reference.removeprefix("#/").split("/"):
            name = part.replace("~1", "/").replace("~0", "~")
            if isinstance(found, Mapping):
                found = found.get(name, {})
            else:
                found = {}
        return found

    def operations(self) -> Iterator[Operation]:
        """All of them."""
        for path, item in (self.raw.get("paths") or {}).items():
            if not isinstance(item, Mapping):
                continue
            for verb in _VERBS:
                if isinstance(item.get(verb), Mapping):
                    yield self._operation(str(path), verb, item)

    def _operation(self, path: str, verb: str, item: Mapping[str, Any]) -> Operation:
        raw = item[verb]
        body = self.resolved(raw.get("requestBody") or {}).get("content") or {}
        shared = [*(item.get("parameters") or []), *(raw.get("parameters") or [])]
        parameters = [
            one for one in self.resolved(shared) if isinstance(one, Mapping) and "name" in one
        ]
        good: Mapping[str, Any] = {}
        for status, answer in (raw.get("responses") or {}).items():
            if str(status).startswith("2"):
                good = self.resolved(answer)
                break
        return Operation(
            str(raw.get("operationId") or f"{verb} {path}"),
            verb.upper(),
            path,
            body,
            parameters,
            good.get("content") or {},
            good.get("links") or {},
            good.get("headers") or {},
            raw,
        )
