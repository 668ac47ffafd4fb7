"""How a job that an operation of an API starts is asked for, and where its result is."""

import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from mantisreed.learning.curl import Line
from mantisreed.learning.fields import is_link
from mantisreed.learning.found_lists import joined_path
from mantisreed.learning.job_states import STATE
from mantisreed.learning.openapi_document import Operation
from mantisreed.learning.openapi_signs import gives_job, gives_text, job_place
from mantisreed.learning.proposal import toml_key

_OF_BODY = re.compile(r"\$response\.body#/(.+)")
_OF_HEADER = re.compile(r"\$response\.header\.([\w-]+)", re.I)
_PARAMETER = re.compile(r"\{([^}]+)\}")
_CALL = re.compile(r"\{\$request\.body#/([^}]+)\}")


@dataclass(frozen=True, slots=True)
class NextRequest:
    """A request that needs something of an earlier answer.

    Attributes:
        take: where the earlier answer has it, as a card writes it.
        path: of the request, with `{job}` or, where the answer has the whole address, `{place}` in
            it; empty for that address itself.
        operation: that it is; None where only its address is known.
        is_sure: whether the document itself says that the two belong together.
    """

    take: str
    path: str
    operation: Operation | None
    is_sure: bool

    @property
    def doubt(self) -> str:
        """What is to be said of it in the card."""
        if self.is_sure:
            return ""
        return "not sure: by its name alone"


def asking_of(operations: Sequence[Operation], chosen: Operation) -> NextRequest | None:
    """The request that asks for the job which an operation starts; None where it starts none."""
    if gives_text(chosen) and not gives_job(chosen):
        return None
    return (
        # From what the document says to what names suggest.
        _by_link(operations, chosen)
        or _by_address(operations, chosen)
        or _by_name(operations, chosen)
        or _by_location(operations, chosen)
    )


def fetching_of(operations: Sequence[Operation], asking: NextRequest) -> NextRequest | None:
    """The request for the result of a job; None where the answer about the job has it."""
    asked = asking.operation
    if asked is None or gives_text(asked):
        return None
    linked = _by_link(operations, asked)
    if linked is not None:
        return linked
    prefix = f"{asked.path.rstrip('/')}/"
    for one in operations:
        is_below = one.path.startswith(prefix) and not _PARAMETER.search(one.path[len(prefix) :])
        if one.verb == "GET" and is_below and gives_text(one):
            above = asking.path or "{place}"
            return NextRequest("", above + one.path[len(prefix) - 1 :], one, is_sure=True)
    for path, name in _text_properties(schema_of(asked), ""):
        if is_link(name):
            return NextRequest(path, "", None, is_sure=False)
    return None


def called_field(operation: Operation) -> str | None:
    """The field of a request that takes the address for calls, by `callbacks` of the document."""
    for callback in (operation.raw.get("callbacks") or {}).values():
        for expression in callback if isinstance(callback, Mapping) else ():
            matched = _CALL.search(str(expression))
            if matched:
                return matched[1]
    return None


def with_call(lines: list[Line], field: str) -> list[Line]:
    """The lines of a request with the address for calls in the field that takes it."""
    names = field.split("/")
    for number, (key, value, comment) in enumerate(lines):
        if key == "json" and isinstance(value, dict):
            table: dict[str, Any] = value
            for name in names[:-1]:
                table = table.setdefault(name, {})
            table[names[-1]] = "{callback}"
            lines[number] = (key, value, comment)
            return lines
    kind = next((key.partition(".")[0] for key, _, _ in lines if key.startswith("form.")), "form")
    return [*lines, (f"{kind}.{toml_key(names[-1])}", "{callback}", "")]


def schema_of(operation: Operation) -> Mapping[str, Any]:
    """The schema of an operation's JSON answer; empty where it has none."""
    for kind, media in operation.answers.items():
        if "json" in kind:
            schema: Mapping[str, Any] = media.get("schema") or {}
            return schema
    return {}


def _by_link(operations: Sequence[Operation], chosen: Operation) -> NextRequest | None:
    """By a link of the answer (OpenAPI 3.0, 4.8.20)."""
    for link in chosen.links.values():
        if not isinstance(link, Mapping):
            continue
        named = str(link.get("operationId") or link.get("operationRef") or "")
        # In a reference `/` is written `~1` (RFC 6901).
        reference = named.replace("~1", "/").lower()
        for one in operations:
            is_it = one.id == named or reference.endswith(f"{one.path}/{one.verb}".lower())
            if one.verb != "GET" or not is_it:
                continue
            for name, expression in (link.get("parameters") or {}).items():
                take = _take_of(str(expression))
                if take is not None:
                    plain = str(name).rpartition(".")[2]
                    return NextRequest(take, _filled(one.path, plain), one, is_sure=True)
    return None


def _take_of(expression: str) -> str | None:
    """A runtime expression as a card writes it."""
    matched = _OF_BODY.fullmatch(expression)
    if matched:
        path = ""
        for name in matched[1].split("/"):
            path = joined_path(path, name.replace("~1", "/").replace("~0", "~"))
        return path
    matched = _OF_HEADER.fullmatch(expression)
    if matched:
        return f"header:{matched[1]}"
    return None


def _by_address(operations: Sequence[Operation], chosen: Operation) -> NextRequest | None:
    """By an address right below that of the operation."""
    prefix = chosen.path.rstrip("/")
    for one in operations:
        last = one.path.rstrip("/").removeprefix(prefix)
        if one.verb == "GET" and re.fullmatch(r"/\{[^}]+\}", last) and gives_job(chosen):
            name = _PARAMETER.findall(one.path)[-1]
            return NextRequest(_id_of(chosen, name), _filled(one.path, name), one, is_sure=True)
    return None


def _by_name(operations: Sequence[Operation], chosen: Operation) -> NextRequest | None:
    """By a field of the answer that is called as the parameter of another operation."""
    fields = {_plain(name): path for path, name in _text_properties(schema_of(chosen), "")}
    for one in operations:
        names = _PARAMETER.findall(one.path)
        has_state = any(STATE.search(name) for _, name in _text_properties(schema_of(one), ""))
        if one.verb == "GET" and len(names) == 1 and _plain(names[0]) in fields and has_state:
            take = fields[_plain(names[0])]
            return NextRequest(take, _filled(one.path, names[0]), one, is_sure=False)
    return None


def _by_location(operations: Sequence[Operation], chosen: Operation) -> NextRequest | None:
    """By the address that a header of the answer gives."""
    header = next((name for name in chosen.headers if "location" in name.lower()), None)
    if header is None:
        return None
    found = next(
        (
            one
            for one in operations
            if one.verb == "GET"
            and len(_PARAMETER.findall(one.path)) == 1
            and any(STATE.search(name) for _, name in _text_properties(schema_of(one), ""))
        ),
        None,
    )
    return NextRequest(f"header:{header}", "", found, is_sure=True)


def _id_of(operation: Operation, name: str) -> str:
    return job_place(schema_of(operation), name) or "id"


def _filled(path: str, name: str) -> str:
    return path.replace(f"{{{name}}}", "{job}")


def _plain(name: str) -> str:
    return re.sub(r"[^a-z0-9]", "", name.lower())


def _text_properties(
    schema: Mapping[str, Any], path: str, depth: int = 0
) -> Iterator[tuple[str, str]]:
    """The places and names of fields that are no lists and no tables."""
    for name, inner in (schema.get("properties") or {}).items():
        if not isinstance(inner, Mapping):
            continue
        here = joined_path(path, str(name))
        if inner.get("type") not in ("array", "object") and "properties" not in inner:
            yield here, str(name)
        # Schemas may contain themselves.
        elif depth < 3:
            yield from _text_properties(inner, here, depth + 1)
